/** What the bench shows of the chosen track, where on it, and what is held under the pointer. */
import { computed, ref, watch } from 'vue'
import { api, type Probe, type Section } from '../api/client'
import { useRead } from '../api/reads'
import { wholeAxis, zoomFrequency, type FrequencyView, type TimeView } from '../lib/axis'
import { setLoop as loopAs } from '../lib/intents'
import { newId, placeHz } from '../lib/moves'
import { atFullDepth, atThisMoment } from '../lib/response'
import type { Play } from './usePlay'
import type { SessionStore } from './useSession'
import { smoothing } from './smoothing'

const WAVEFORM_COLUMNS = 1200
const MOST_HELD = 8
const STEP_S = 0.4

export type Bench = ReturnType<typeof makeBench>

export function makeBench(session: SessionStore, play: Play) {
  const { about, state, chosen, sound, edit, analyse } = session
  const frequency = ref<FrequencyView>(wholeAxis)
  const time = ref<TimeView>({ startS: 0, endS: 1 })
  const pointerHz = ref<number | null>(null)
  /** Size of the spectrum's lane in pixels: what stands beside it is laid out by it, too. */
  const laneSize = ref({ width: 1, height: 1 })
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

  const heardOf = () => sound.value && { strip: sound.value.stripId, content: sound.value.content }
  const waveform = useRead(
    'waveform',
    heardOf,
    ({ strip }, signal) => analyse('waveform', { strip_id: strip, columns: WAVEFORM_COLUMNS }, signal),
    () => sound.value?.stripId,
  ).answer

  const spectrum = useRead(
    'spectrum',
    () => {
      const of = heardOf()
      const [start, end] = [state.value.loop_start_frame ?? 0, state.value.loop_end_frame ?? null]
      return of && { ...of, start, end, smoothing: smoothing.value }
    },
    ({ strip, start, end, smoothing }, signal) =>
      analyse('spectrum', { strip_id: strip, start_frame: start, end_frame: end, smoothing }, signal),
    () => sound.value?.stripId,
  ).answer

  const response = useRead(
    'response',
    () => {
      const track = chosen.value
      if (!track) return null
      const amount = track.ledger_on ? (track.amount ?? 100) : 0
      return { moves: track.ledger.map((one) => one.move), rate: play.rate.value, amount }
    },
    ({ moves, rate, amount }) => api.response(moves, rate, amount),
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

  /** What all moves do: the steady ones always, the others as they do it just now. */
  const shownResponse = computed(() => {
    const steady = response.value?.steady_db ?? []
    const moving = play.playing.value && play.ledgerHeard.value ? momentary.value : null
    return moving ? steady.map((db, index) => db + (moving[index] ?? 0)) : steady
  })

  /** What each dynamic or adaptive move of the chosen strip does just now, by its id. */
  const gainsNow = computed(() => {
    const gains = play.playing.value ? play.gains.value : null
    return new Map(gains?.track_id === chosen.value?.id ? gains?.moves.map((move) => [move.entry_id, move]) : [])
  })

  /** What can be chosen here: a track of one channel has no left, right, mid or side. */
  const kinds = computed(() => {
    const known = about.value.kinds
    return sound.value?.nChannels === 1
      ? known.map((kind) => ({ ...kind, figures: kind.figures.filter((figure) => figure.name !== 'channel') }))
      : known
  })

  /** Tracks and groups but the one on the bench, and the mix: what a move can be copied to, or be shown behind it. */
  const others = computed(() =>
    [...state.value.tracks, ...state.value.groups, state.value.master]
      .filter((one) => one.id !== chosen.value?.id)
      .map((one) => ({ id: one.id, name: one.name })),
  )
  /** What a move can listen to: no track hears the mix that it is part of. */
  const listenable = computed(() => others.value.filter((one) => one.id !== state.value.master.id))

  /** All moves at their full depth, where some come and go. */
  const fullResponse = computed(() => response.value && atFullDepth(response.value))

  /** Moves that run in minimum phase though their ledger is in linear phase: too low and narrow for it. */
  const notInLinearPhase = computed<ReadonlySet<string>>(() => {
    const track = chosen.value
    const indices = track?.phase === 'linear' ? (response.value?.without_linear_phase ?? []) : []
    return new Set(indices.map((index) => track?.ledger[index]?.id ?? ''))
  })

  /** Moves that the amount would take further than their kind goes. */
  const heldAtLimit = computed<ReadonlySet<string>>(() => {
    const held = response.value?.held_at_limit ?? []
    return new Set(held.map((index) => chosen.value?.ledger[index]?.id ?? ''))
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

  /** The pitch pipe at a note, or, without one, wherever the pointer goes. */
  let pipeFollows = false
  function pipe(on: boolean, hz?: number) {
    pipeFollows = on && hz === undefined
    play.pipeHz.value = on ? (hz ?? pointerHz.value ?? markedHz.value ?? 440) : null
    if (on && !play.playing.value) void play.play()
  }

  /** The pointer is at a frequency; what is held goes with it. */
  function pointAt(hz: number) {
    pointerHz.value = hz
    if (play.probe.value) setProbe(hz)
    else if (pipeFollows) play.pipeHz.value = hz
  }

  function nudgePointer(direction: 1 | -1, fine: boolean) {
    const hz = (pointerHz.value ?? 440) * 2 ** ((direction * (fine ? 2 : 20)) / 1200)
    pointerHz.value = Math.min(Math.max(hz, 20), 20_000)
    if (play.probe.value) setProbe(pointerHz.value)
  }

  /** Where the ear is: at the probe, or at the pointer. */
  const shownHz = computed(() => play.probe.value?.hz ?? pointerHz.value)

  function zoom(factor: number) {
    const at = shownHz.value ?? (entry.value && placeHz(about.value.kinds, entry.value.move)) ?? 632
    frequency.value = zoomFrequency(frequency.value, at, factor)
  }

  function showAll() {
    frequency.value = wholeAxis
    time.value = { startS: 0, endS: songS.value }
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

  const frame = (seconds: number) => Math.round(seconds * play.rate.value)
  const loopIntent = (range: { startS: number; endS: number } | null) =>
    loopAs(range && { start: frame(range.startS), end: frame(range.endS) })

  function setLoop(range: { startS: number; endS: number } | null) {
    const long = range && range.endS - range.startS > STEP_S / 4 ? range : null
    void edit(long ? 'Set the loop' : 'Clear the loop', [loopIntent(long)])
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
    shownHz,
    laneSize,
    zoom,
    showAll,
    entryId,
    entry,
    kinds,
    others,
    listenable,
    probeWidth,
    probeKind,
    pointAt,
    nudgePointer,
    setProbe,
    widenProbe,
    holdProbe,
    markedHz,
    pipe,
    songS,
    loop,
    loopIntent,
    setLoop,
    sections,
    nameSection,
    removeSection,
    waveform,
    spectrum,
    excessAt,
    response,
    heldAtLimit,
    shownResponse,
    fullResponse,
    gainsNow,
    notInLinearPhase,
  }
}
