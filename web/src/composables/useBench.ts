/** What the bench shows and what is done on it to the chosen track. */
import { computed, ref, watch } from 'vue'
import { api, type EditStep, type LedgerEntry, type Move, type Pin, type Probe, type Section, type Strip, type TrackFields } from '../api/client'
import { wholeAxis, type FrequencyView, type TimeView } from '../lib/axis'
import { editTrack, moveOfKind, newId, placeHz, startedAs, withMove } from '../lib/edits'
import { formatHz } from '../lib/figures'
import { atFullDepth, atThisMoment } from '../lib/response'
import { useLatest } from './useLatest'
import { usePlay } from './usePlay'
import { useSession } from './useSession'

const WAVEFORM_COLUMNS = 1200
const MOST_HELD = 8
const STEP_S = 0.4
const SPOT_S = 0.8 // either side of a spot that is looked at

const { about, state, chosen, show, edit } = useSession()
const play = usePlay()
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
  const session = state.value
  if (session?.loop_start_frame == null || session.loop_end_frame == null) return null
  return { startS: session.loop_start_frame / play.rate.value, endS: session.loop_end_frame / play.rate.value }
})
watch(() => [state.value?.id, songS.value], () => (time.value = { startS: 0, endS: songS.value }), { immediate: true })
watch(() => chosen.value?.id, () => (entryId.value = null))

const entry = computed(() => chosen.value?.ledger.find((candidate) => candidate.id === entryId.value) ?? null)

const audioId = () => chosen.value?.audio_id || null
const waveform = useLatest(audioId, (id) => api.waveform(id, WAVEFORM_COLUMNS), audioId)

const spectrum = useLatest(
  () => {
    const track = chosen.value
    if (!track?.audio_id || !state.value) return null
    const start = state.value.loop_start_frame ?? 0
    const end = state.value.loop_end_frame ?? play.songFrames.value
    return { id: track.audio_id, start: start - track.start_frame, end: end - track.start_frame, rate: play.rate.value }
  },
  ({ id, start, end, rate }) => api.spectrum(id, start, end, rate),
  audioId,
)

const response = useLatest(
  () => {
    const track = chosen.value
    return track && { moves: track.ledger_on ? track.ledger.map((one) => one.move) : [], rate: play.rate.value }
  },
  ({ moves, rate }) => api.response(moves, rate),
  () => chosen.value?.id,
)

/** What the dynamic and adaptive moves do just now, in dB at the axis' frequencies; null while nothing plays. */
const momentary = computed<number[] | null>(() => {
  const now = play.gains.value
  const known = response.value
  const track = chosen.value
  if (!now || !known || !track || now.track_id !== track.id) return null
  return atThisMoment(known, track.ledger, now.moves, about.value?.axis_hz ?? [])
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
  const nearest = known.hz.reduce((best, at, index) => (Math.abs(Math.log2(at / hz)) < Math.abs(Math.log2((known.hz[best] ?? 20) / hz)) ? index : best), 0)
  return known.stands_out_db[nearest] ?? null
}

/** What the core says to a pin; without an answer nothing is done. */
async function answersTo(pin: Pin) {
  const [session, strip] = [state.value, chosen.value]
  return session && strip ? api.pinAnswers(session.id, strip.id, pin.hz, pin.width_octaves ?? 0.25, pin.excess_db ?? null).catch(() => null) : null
}

function setProbe(hz: number | null) {
  const track = chosen.value
  if (hz === null || !track) {
    play.probe.value = null
    return
  }
  const starting = about.value?.probe
  play.probe.value = { kind: probeKind.value, amount_db: starting?.amount_db ?? 15, track_id: track.id, hz, width_octaves: probeWidth.value }
  if (!play.playing.value) void play.play()
}

/** Let the probe stand where it is, so that another one can be added to it. */
function holdProbe() {
  if (play.probe.value && play.heldProbes.value.length < MOST_HELD) play.heldProbes.value = [...play.heldProbes.value, play.probe.value]
}

function widenProbe(factor: number) {
  probeWidth.value = Math.min(Math.max(probeWidth.value * factor, 0.02), 3)
  const probe = play.probe.value
  if (probe) play.probe.value = { ...probe, width_octaves: probeWidth.value }
}

const onTrack = (label: string, change: (track: Strip) => TrackFields) => {
  const track = chosen.value
  return track ? edit(label, [editTrack(track, change(track))]) : Promise.resolve()
}

/** Mark what is under the pointer: a pin; while a dip shows that the track needs it, a keeper. */
function dropPin() {
  const hz = play.probe.value?.hz ?? pointerHz.value
  if (hz === null) return
  if (play.probe.value?.kind === 'dip') {
    void answersTo({ id: '', hz, width_octaves: probeWidth.value }).then((answers) => answers && onTrack(`Keep ${formatHz(hz)}`, (track) => ({ keepers: [...(track.keepers ?? []), answers.keeper] })))
    return
  }
  const pin: Pin = { id: newId(), hz, width_octaves: probeWidth.value, excess_db: excessAt(hz) }
  void onTrack(`Pin at ${formatHz(hz)}`, (track) => ({ pins: [...(track.pins ?? []), pin] }))
}

function addMove(move: Move, reason = '', without?: Pin) {
  const added: LedgerEntry = { id: newId(), move, reason, evidence: null, clash: null }
  entryId.value = added.id
  void onTrack(`Cut at ${formatHz(placeHz(move))}`, (track) => ({
    ledger: [...(track.ledger ?? []), added],
    ...(without && { pins: (track.pins ?? []).filter((pin) => pin.id !== without.id) }),
  }))
}

function addBell(hz: number) {
  const bell = about.value?.kinds[0]
  if (bell) addMove(moveOfKind(bell, hz))
}

/** A note with its overtones as one move. */
function addFamily(hz: number) {
  const kind = about.value?.kinds.find((known) => known.kind === 'note-family')
  const start = kind?.starts.find((one) => !('hz' in one.values))
  if (kind && start) addMove(startedAs(moveOfKind(kind, hz), start), `The note at ${formatHz(hz)} with its overtones`)
  markedHz.value = null
}

const toldOfPin = (pin: Pin) => `Pinned at ${formatHz(pin.hz)}${pin.excess_db == null ? '' : `, stands out ${pin.excess_db.toFixed(1)} dB`}`

async function cutPin(pin: Pin) {
  const answers = await answersTo(pin)
  if (answers) addMove(answers.cut, toldOfPin(pin), pin)
}

/** Answer a pin with a dynamic bell that acts only in the loud moments. */
async function tamePin(pin: Pin) {
  const answers = await answersTo(pin)
  if (answers) addMove(answers.tame, toldOfPin(pin), pin)
}

/** Say that what a pin marks is wanted: nothing adaptive touches it, and a move into it is flagged. */
async function keepPin(pin: Pin) {
  const answers = await answersTo(pin)
  if (answers) void onTrack(`Keep ${formatHz(pin.hz)}`, (track) => ({ keepers: [...(track.keepers ?? []), answers.keeper], pins: (track.pins ?? []).filter((one) => one.id !== pin.id) }))
}

const removeKeeper = (index: number) => onTrack('Remove a keeper', (track) => ({ keepers: (track.keepers ?? []).filter((_, at) => at !== index) }))

/** Copy moves of the ledger, in its order, to another track or group, as one step. */
function copyMoves(ids: readonly string[], targetId: string) {
  const session = state.value
  const found = chosen.value?.ledger.filter((one) => ids.includes(one.id)) ?? []
  if (!session || !found.length) return
  const group = [...session.groups, session.master].find((one) => one.id === targetId)
  const target = session.tracks.find((one) => one.id === targetId) ?? (group && { ...group, is_group: true })
  if (!target) return
  const copied = found.map((one) => ({ ...one, id: newId(), reason: `Copied from ${chosen.value?.name}`, evidence: null, clash: null }))
  const what = copied.length === 1 ? 'a move' : `${copied.length} moves`
  void edit(`Copy ${what} to ${target.name}`, [editTrack(target as Strip, { ledger: [...target.ledger, ...copied] })])
}

const removePin = (id: string) => onTrack('Remove a pin', (track) => ({ pins: (track.pins ?? []).filter((pin) => pin.id !== id) }))

const changeMove = (id: string, move: Move, label: string) => onTrack(label, (track) => ({ ledger: withMove(track.ledger, id, move) }))

/** Show and play a move as it is being dragged; nothing is saved before the drag ends. */
function previewMove(id: string, move: Move) {
  const track = chosen.value
  if (track) show([editTrack(track, { ledger: withMove(track.ledger, id, move) })])
}

const removeMove = (id: string) => onTrack('Remove a move', (track) => ({ ledger: track.ledger.filter((one) => one.id !== id) }))

function duplicateMove(id: string) {
  const copyId = newId()
  entryId.value = copyId
  return onTrack('Duplicate a move', (track) => ({
    ledger: track.ledger.flatMap((one) => (one.id === id ? [one, { ...one, id: copyId }] : [one])),
  }))
}

const frame = (seconds: number) => Math.round(seconds * play.rate.value)
const loopStep = (range: { startS: number; endS: number } | null) =>
  ({ do: 'edit-session', loop_start_frame: range && frame(range.startS), loop_end_frame: range && frame(range.endS) }) as unknown as EditStep

function setLoop(range: { startS: number; endS: number } | null) {
  const long = range && range.endS - range.startS > STEP_S / 4 ? range : null
  void edit(long ? 'Set the loop' : 'Clear the loop', [loopStep(long)])
}

/** A spot of the spectrogram: loops around it, and a pin at its frequency, as one step. */
function lookAt(hz: number, seconds: number) {
  const track = chosen.value
  if (!track) return
  const pin: Pin = { id: newId(), hz, width_octaves: probeWidth.value, excess_db: excessAt(hz) }
  const range = { startS: Math.max(seconds - SPOT_S, 0), endS: Math.min(seconds + SPOT_S, songS.value) }
  void edit(`Look at ${formatHz(hz)}`, [loopStep(range), editTrack(track, { pins: [...(track.pins ?? []), pin] })])
}

const sections = computed(() => (state.value?.sections ?? []).map((one) => ({ id: one.id, name: one.name, startS: one.start_frame / play.rate.value, endS: one.end_frame / play.rate.value })))
const setSections = (label: string, changed: Section[]) => edit(label, [{ do: 'edit-session', sections: changed } as unknown as EditStep])

/** Give the loop a name: from now on it is a section that can be found again, and that moves can be limited to. */
function nameSection(name: string) {
  const range = loop.value
  if (!range || !name.trim()) return
  const added = { id: newId(), name: name.trim().slice(0, 60), start_frame: frame(range.startS), end_frame: frame(range.endS) }
  void setSections(`Section ${added.name}`, [...(state.value?.sections ?? []), added].sort((a, b) => a.start_frame - b.start_frame))
}

const removeSection = (id: string) => setSections('Remove a section', (state.value?.sections ?? []).filter((one) => one.id !== id))

export function useBench() {
  return {
    frequency, time, pointerHz, entryId, entry, probeWidth, probeKind, markedHz, addFamily, songS, loop, waveform, spectrum, response, excessAt, setProbe, widenProbe,
    momentary, fullResponse, notInLinearPhase, dropPin, addBell, cutPin, tamePin, keepPin, removeKeeper, copyMoves, removePin, changeMove, previewMove, removeMove, duplicateMove, setLoop, lookAt, sections, nameSection, removeSection, holdProbe, onTrack,
  }
}
