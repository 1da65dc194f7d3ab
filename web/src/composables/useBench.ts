/** What the bench shows and what is done on it to the chosen track. */
import { computed, ref, watch } from 'vue'
import { api, type LedgerEntry, type Move, type Pin, type Probe, type Section, type Strip } from '../api/client'
import { useRead } from '../api/reads'
import { wholeAxis, type FrequencyView, type TimeView } from '../lib/axis'
import { formatHz } from '../lib/figures'
import * as intents from '../lib/intents'
import { moveOfKind, newId, placeHz, startedAs } from '../lib/moves'
import { atFullDepth, atThisMoment } from '../lib/response'
import type { Play } from './usePlay'
import type { SessionStore } from './useSession'

const WAVEFORM_COLUMNS = 1200
const MOST_HELD = 8
const STEP_S = 0.4
const SPOT_S = 0.8 // either side of a spot that is looked at

export type Bench = ReturnType<typeof makeBench>

export function makeBench(session: SessionStore, play: Play) {
  const { about, state, known, knownChosen, chosen, sound, overlay, edit } = session
  const frequency = ref<FrequencyView>(wholeAxis)
  const time = ref<TimeView>({ startS: 0, endS: 1 })
  const pointerHz = ref<number | null>(null)
  const entryId = ref<string | null>(null)
  const probeWidth = ref(0.25)
  const probeKind = ref<NonNullable<Probe['kind']>>('lift')
  /** A note whose overtones are marked along the axis. */
  const markedHz = ref<number | null>(null)

  const songS = computed(() => play.songFrames.value / play.rate.value)
  const loop = computed(() => {
    const { loop_start_frame: start, loop_end_frame: end } = state.value
    return start == null || end == null ? null : { startS: start / play.rate.value, endS: end / play.rate.value }
  })
  watch(songS, () => (time.value = { startS: 0, endS: songS.value }), { immediate: true })
  watch(
    () => chosen.value?.id,
    () => (entryId.value = null),
  )

  const entry = computed(() => chosen.value?.ledger.find((candidate) => candidate.id === entryId.value) ?? null)

  const audioId = () => sound.value?.audioId ?? null
  const waveform = useRead('waveform', audioId, (id) => api.waveform(id, WAVEFORM_COLUMNS), audioId).answer

  const spectrum = useRead(
    'spectrum',
    () => {
      const now = sound.value
      if (!now) return null
      const start = state.value.loop_start_frame ?? 0
      const end = state.value.loop_end_frame ?? play.songFrames.value
      return { id: now.audioId, start: start - now.startFrame, end: end - now.startFrame, rate: play.rate.value }
    },
    ({ id, start, end, rate }) => api.spectrum(id, start, end, rate),
    audioId,
  ).answer

  const response = useRead(
    'response',
    () => {
      const track = chosen.value
      return track && { moves: track.ledger_on ? track.ledger.map((one) => one.move) : [], rate: play.rate.value }
    },
    ({ moves, rate }) => api.response(moves, rate),
    () => chosen.value?.id,
  ).answer

  /** What the dynamic and adaptive moves do just now, in dB at the axis' frequencies; null while nothing plays. */
  const momentary = computed<number[] | null>(() => {
    const now = play.gains.value
    const known = response.value
    const track = chosen.value
    if (!now || !known || !track || now.track_id !== track.id) return null
    return atThisMoment(known, track.ledger, now.moves, about.value.axis_hz)
  })

  /** All moves at their full depth, where some come and go. */
  const fullResponse = computed(() => response.value && atFullDepth(response.value))

  /** Moves that run in minimum phase though their ledger is in linear phase: too low and narrow for it. */
  const notInLinearPhase = computed<ReadonlySet<string>>(() => {
    const track = chosen.value
    const indices = track?.phase === 'linear' ? (response.value?.without_linear_phase ?? []) : []
    return new Set(indices.map((index) => track?.ledger[index]?.id ?? ''))
  })

  /** By how much the chosen track's own spectrum stands out at a frequency, or just beside it. */
  function excessAt(hz: number): number | null {
    const known = spectrum.value
    if (!known) return null
    const nearest = known.hz.reduce(
      (best, at, index) =>
        Math.abs(Math.log2(at / hz)) < Math.abs(Math.log2((known.hz[best] ?? 20) / hz)) ? index : best,
      0,
    )
    return known.stands_out_db[nearest] ?? null
  }

  /** What the core says to a pin; without an answer nothing is done. */
  async function answersTo(pin: Pin) {
    const strip = chosen.value
    if (!strip) return null
    return api.pinAnswers(session.id, strip.id, pin.hz, pin.width_octaves, pin.excess_db ?? null).catch(() => null)
  }

  function setProbe(hz: number | null) {
    const track = chosen.value
    if (hz === null || !track) {
      play.probe.value = null
      return
    }
    const starting = about.value.probe
    play.probe.value = {
      kind: probeKind.value,
      amount_db: starting?.amount_db ?? 15,
      track_id: track.id,
      hz,
      width_octaves: probeWidth.value,
    }
    if (!play.playing.value) void play.play()
  }

  /** Let the probe stand where it is, so that another one can be added to it. */
  function holdProbe() {
    if (play.probe.value && play.heldProbes.value.length < MOST_HELD)
      play.heldProbes.value = [...play.heldProbes.value, play.probe.value]
  }

  function widenProbe(factor: number) {
    probeWidth.value = Math.min(Math.max(probeWidth.value * factor, 0.02), 3)
    const probe = play.probe.value
    if (probe) play.probe.value = { ...probe, width_octaves: probeWidth.value }
  }

  /** Edit the chosen strip, as it is known to the server. */
  const onStrip = (label: string, change: (strip: Strip) => (intents.AnyIntent | null)[]) => {
    const strip = knownChosen()
    return strip ? edit(label, change(strip)) : Promise.resolve(false)
  }

  /** Mark what is under the pointer: a pin; while a dip shows that the track needs it, a keeper. */
  async function dropPin() {
    const hz = play.probe.value?.hz ?? pointerHz.value
    if (hz === null) return
    const pin: Pin = { id: newId(), hz, width_octaves: probeWidth.value, excess_db: excessAt(hz) }
    if (play.probe.value?.kind !== 'dip') {
      await onStrip(`Pin at ${formatHz(hz)}`, (strip) => [intents.addPin(strip, pin)])
      return
    }
    const answers = await answersTo(pin)
    if (answers) await onStrip(`Keep ${formatHz(hz)}`, (strip) => [intents.addKeeper(strip, answers.keeper)])
  }

  const entryOf = (move: Move, reason = ''): LedgerEntry => ({ id: newId(), move, reason, evidence: null, clash: null })

  async function addMove(move: Move, reason = '') {
    const added = entryOf(move, reason)
    entryId.value = added.id
    await onStrip(`Cut at ${formatHz(placeHz(move))}`, (strip) => [intents.addMove(strip, added)])
  }

  function addBell(hz: number) {
    const bell = about.value.kinds[0]
    if (bell) void addMove(moveOfKind(bell, hz))
  }

  /** A note with its overtones as one move. */
  function addFamily(hz: number) {
    const kind = about.value.kinds.find((one) => one.kind === 'note-family')
    const start = kind?.starts.find((one) => !('hz' in one.values))
    if (kind && start) {
      void addMove(startedAs(moveOfKind(kind, hz), start), `The note at ${formatHz(hz)} with its overtones`)
    }
    markedHz.value = null
  }

  const toldOfPin = (pin: Pin) =>
    `Pinned at ${formatHz(pin.hz)}${pin.excess_db == null ? '' : `, stands out ${pin.excess_db.toFixed(1)} dB`}`

  /** Answer a pin with a cut, or with a dynamic bell that acts only in the loud moments. */
  async function answerPin(pin: Pin, how: 'cut' | 'tame') {
    const answers = await answersTo(pin)
    if (!answers) return
    const added = entryOf(answers[how], toldOfPin(pin))
    entryId.value = added.id
    const label = `Cut at ${formatHz(placeHz(added.move))}`
    await onStrip(label, (strip) => [intents.answerPin(strip, pin, how, added)])
  }

  /** Say that what a pin marks is wanted: nothing adaptive touches it, and a move into it is flagged. */
  async function keepPin(pin: Pin) {
    const answers = await answersTo(pin)
    if (answers) await onStrip(`Keep ${formatHz(pin.hz)}`, (strip) => [intents.keepPin(strip, pin, answers.keeper)])
  }

  const removeKeeper = (index: number) =>
    onStrip('Remove a keeper', (strip) => {
      const keeper = strip.keepers[index]
      return keeper ? [intents.removeKeeper(strip, keeper)] : []
    })

  /** Copy moves of the ledger, in its order, to another track or group, as one step. */
  async function copyMoves(ids: readonly string[], targetId: string) {
    const found = chosen.value?.ledger.filter((one) => ids.includes(one.id)) ?? []
    const target = intents.stripOf(known.value, targetId)
    if (!found.length || !target) return
    const what = found.length === 1 ? 'a move' : `${found.length} moves`
    const reason = `Copied from ${chosen.value?.name}`
    const copied = found.map(({ move }) => intents.addMove(target, entryOf(move, reason)))
    await edit(`Copy ${what} to ${target.name}`, copied)
  }

  const removePin = (id: string) => onStrip('Remove a pin', (strip) => [intents.removePin(strip, id)])

  const changeMove = (id: string, move: Move, label: string) =>
    onStrip(label, (strip) => [intents.setMove(strip, id, move)])

  /** Show and play a move as it is being dragged; nothing is saved before the drag ends. */
  function previewMove(id: string, move: Move) {
    const strip = knownChosen()
    overlay.value = strip && intents.setMove(strip, id, move)
  }

  const removeMove = (id: string) =>
    onStrip('Remove a move', (strip) =>
      strip.ledger.filter((one) => one.id === id).map((entry) => intents.removeMove(strip, entry)),
    )

  function duplicateMove(id: string) {
    const one = chosen.value?.ledger.find((entry) => entry.id === id)
    if (!one) return Promise.resolve(false)
    const copy = { ...one, id: newId() }
    entryId.value = copy.id
    return onStrip('Duplicate a move', (strip) => [intents.addMove(strip, copy, { afterId: id })])
  }

  const frame = (seconds: number) => Math.round(seconds * play.rate.value)
  const loopIntent = (range: { startS: number; endS: number } | null) =>
    intents.setLoop(range && { start: frame(range.startS), end: frame(range.endS) })

  function setLoop(range: { startS: number; endS: number } | null) {
    const long = range && range.endS - range.startS > STEP_S / 4 ? range : null
    void edit(long ? 'Set the loop' : 'Clear the loop', [loopIntent(long)])
  }

  /** A spot of the spectrogram: loops around it, and a pin at its frequency, as one step. */
  function lookAt(hz: number, seconds: number) {
    const pin: Pin = { id: newId(), hz, width_octaves: probeWidth.value, excess_db: excessAt(hz) }
    const range = { startS: Math.max(seconds - SPOT_S, 0), endS: Math.min(seconds + SPOT_S, songS.value) }
    void onStrip(`Look at ${formatHz(hz)}`, (strip) => [loopIntent(range), intents.addPin(strip, pin)])
  }

  const sections = computed(() =>
    state.value.sections.map((one) => ({
      id: one.id,
      name: one.name,
      startS: one.start_frame / play.rate.value,
      endS: one.end_frame / play.rate.value,
    })),
  )

  /** Give the loop a name: from now on it is a section that can be found again, and that moves can be limited to. */
  function nameSection(name: string) {
    const range = loop.value
    if (!range || !name.trim()) return
    const section: Section = {
      id: newId(),
      name: name.trim().slice(0, 60),
      start_frame: frame(range.startS),
      end_frame: frame(range.endS),
    }
    void edit(`Section ${section.name}`, [{ do: 'add-section', section }])
  }

  const removeSection = (id: string) => edit('Remove a section', [{ do: 'remove-section', section_id: id }])

  return {
    frequency,
    time,
    pointerHz,
    entryId,
    entry,
    probeWidth,
    probeKind,
    markedHz,
    addFamily,
    songS,
    loop,
    waveform,
    spectrum,
    response,
    excessAt,
    setProbe,
    widenProbe,
    momentary,
    fullResponse,
    notInLinearPhase,
    dropPin,
    addBell,
    answerPin,
    keepPin,
    removeKeeper,
    copyMoves,
    removePin,
    changeMove,
    previewMove,
    removeMove,
    duplicateMove,
    setLoop,
    lookAt,
    sections,
    nameSection,
    removeSection,
    holdProbe,
    onStrip,
  }
}
