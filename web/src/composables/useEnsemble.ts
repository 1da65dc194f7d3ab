/** The Ensemble: who hides whom, who goes first, which track yields, and what came of it. */
import { computed, ref, shallowRef, watch } from 'vue'
import { api, type EditStep, type EnsembleView, type Probe, type RightOfWay, type Strip } from '../api/client'
import { bandOfHz, decided, moved, NOBODY, orderedColumns, pictureOf, type RegionRule, withoutRule, withRule } from '../lib/ensemble'
import { editTrack } from '../lib/edits'
import { formatHz } from '../lib/figures'
import { useBench } from './useBench'
import { useLatest } from './useLatest'
import { usePlay } from './usePlay'
import { useSession } from './useSession'

export type Pressed = 'it' | 'hider' | 'both'

const ASK_AGAIN_MS = 250
const TRY_AGAIN_MS = 2000
const SLICE_OCTAVES = 0.5
const BEFORE_CELL_S = 0.15

const { state, edit } = useSession()
const play = usePlay()
const bench = useBench()

const open = ref(false)
const view = shallowRef<EnsembleView | null>(null)
/** The revision that is shown; older than the session's while work is under way. */
const shownRevision = ref(-1)
const progress = ref({ done: 0, of: 1 })
const problem = ref('')
const clashId = ref<string | null>(null)
const pairIds = ref<string[]>([])
const closeView = ref(false)
const pressed = ref<Pressed>('both')
/** Columns as they are now, or as they were before any track gave way. */
const picturesNow = ref(true)
const alone = ref(false)
const without = ref(false)
const allMovesOff = ref(false)
const matched = ref(true)
const held = shallowRef<{ heardIds: string[]; slices: Probe[] } | null>(null)
const part = ref(0.5)
const limitDb = ref<number | null>(null)
const isDynamic = ref(true)
let asked = 0

const fresh = computed(() => view.value !== null && shownRevision.value === state.value?.revision)
const clash = computed(() => view.value?.clashes?.find((one) => one.id === clashId.value) ?? null)
const proof = computed(() => {
  const entry = clash.value?.entry
  return (entry && view.value?.proofs?.find((one) => one.entry_id === entry[1])) ?? null
})
const names = computed(() => new Map([...(state.value?.tracks ?? []), ...(state.value?.groups ?? [])].map((one) => [one.id, one.name])))
const nameOf = (id: string | null) => (id === null ? 'all others together' : (names.value.get(id) ?? 'a track that is gone'))

async function bringUpToDate() {
  const mine = ++asked
  problem.value = ''
  while (open.value && mine === asked && state.value) {
    const { id, revision } = state.value
    const got = await api.ensemble(id).catch((error: Error) => {
      problem.value = error.message
      return null
    })
    if (mine !== asked) return
    if (got?.ready) {
      view.value = got
      shownRevision.value = revision
      problem.value = ''
      if (!got.clashes?.some((one) => one.id === clashId.value)) clashId.value = null
      return
    }
    if (got) {
      progress.value = { done: got.done, of: got.of }
      problem.value = got.problem ?? ''
    }
    await new Promise((resolve) => setTimeout(resolve, problem.value ? TRY_AGAIN_MS : ASK_AGAIN_MS))
  }
}
watch(() => (open.value ? `${state.value?.id} ${state.value?.revision}` : null), (key) => key && void bringUpToDate())
watch(() => state.value?.id, () => {
  view.value = null
  clashId.value = null
  pairIds.value = []
})

/** The yield that is proposed for the chosen clash; it waits for a yes. */
const draft = useLatest(
  () => {
    const one = clash.value
    if (!open.value || !fresh.value || !state.value || !one || one.entry || !one.by || one.first === null || one.same_sound) return null
    return { id: state.value.id, revision: state.value.revision, clashId: one.id, part: part.value, limitDb: limitDb.value, isDynamic: isDynamic.value }
  },
  async ({ id, clashId: of, part: wanted, limitDb: limit, isDynamic: dynamic }) =>
    ({ of, ...(await api.draftYield(id, of, wanted, limit, dynamic).catch((error: Error) => ({ refused: error.message }))) }),
  () => `${clashId.value} ${part.value} ${limitDb.value} ${isDynamic.value} ${state.value?.revision}`,
)

const stripOf = (id: string): Strip | null => {
  const group = [...(state.value?.groups ?? [])].find((one) => one.id === id)
  return state.value?.tracks.find((one) => one.id === id) ?? ((group && { ...group, is_group: true }) as Strip | undefined) ?? null
}

/** Let the track that has not the right of way give way as proposed. */
function accept() {
  const proposed = draft.value
  const strip = proposed && 'entry' in proposed ? stripOf(proposed.strip_id) : null
  if (!proposed || !('entry' in proposed) || !strip || !clash.value) return
  void edit(`${strip.name} gives way to ${nameOf(clash.value.first)}`, [editTrack(strip, { ledger: [...strip.ledger, proposed.entry] })])
}

/** Take the yield of the chosen clash out of its ledger again. */
function takeBack() {
  const [stripId, entryId] = clash.value?.entry ?? []
  const strip = stripId ? stripOf(stripId) : null
  if (strip) void edit(`${strip.name} no longer gives way`, [editTrack(strip, { ledger: strip.ledger.filter((entry) => entry.id !== entryId) })])
}

const setRights = (label: string, right_of_way: RightOfWay) => edit(label, [{ do: 'edit-session', right_of_way } as unknown as EditStep])

/** Say who goes first in the chosen clash; null: both stay. */
function decide(first: string | null) {
  const one = clash.value
  if (!one || !state.value) return
  const label = first === null ? `Both stay at ${formatHz(one.centre_hz)}` : `${nameOf(first)} goes first at ${formatHz(one.centre_hz)}`
  void setRights(label, decided(rights.value, one, first))
}

const rights = computed<RightOfWay>(() => ({ order: [], exceptions: [], ...state.value?.right_of_way }))

/** Say who of two goes first in any region. */
function setRule(rule: RegionRule) {
  const where = `${formatHz(rule.low_hz)} to ${formatHz(rule.high_hz)}`
  void setRights(rule.first === null ? `Both stay from ${where}` : `${nameOf(rule.first ?? '')} goes first from ${where}`, withRule(rights.value, rule))
}
const removeRule = (rule: RegionRule) => void setRights('Rule removed', withoutRule(rights.value, rule))

function moveInOrder(id: string, to: number) {
  const order = view.value?.order ?? []
  const next = moved(order, id, Math.min(Math.max(to, 0), order.length - 1))
  if (view.value && next.join() !== order.join()) {
    view.value = { ...view.value, order: next }
    void setRights(`Right of way of ${nameOf(id)}`, { ...rights.value, order: next })
  }
}

function choose(id: string | null) {
  clashId.value = clashId.value === id ? null : id
  without.value = false
  limitDb.value = null
  const one = clash.value
  if (one?.by) pairIds.value = [one.hidden, one.by]
}

/** Choose a track for the close view: two at a time. */
function pick(id: string) {
  pairIds.value = pairIds.value.includes(id) ? pairIds.value.filter((one) => one !== id) : [...pairIds.value, id].slice(-2)
}

/** Hear a slice while it is pressed: of a track, of what hides it, or of both. */
function pressCell(columnId: string, hz: number, atS: number) {
  const now = view.value
  const columns = now?.columns ?? []
  const column = columns.find((one) => one.id === columnId)
  if (!now || !column) return
  const band = bandOfHz(now.edges_hz ?? [], hz)
  const nTimes = now.n_times ?? 1
  const time = Math.min(Math.max(Math.floor((atS - (now.start_s ?? 0)) / (now.step_s ?? 1)), 0), nTimes - 1)
  const by = band < 0 ? NOBODY : (pictureOf(column, false).by[band * nTimes + time] ?? NOBODY)
  const hider = columns[by]?.id ?? null
  const ids = pressed.value === 'it' || hider === null ? [columnId] : pressed.value === 'hider' ? [hider] : [columnId, hider]
  hearSlice(ids, hz, SLICE_OCTAVES, play.playing.value ? null : Math.max(atS - BEFORE_CELL_S, 0))
}

/** Hear a region of some tracks; `fromS`: begin there. */
function hearSlice(ids: string[], hz: number, widthOctaves: number, fromS: number | null) {
  const slices = ids.map((track_id): Probe => ({ track_id, kind: 'only', hz: Math.min(Math.max(hz, 20), 20_000), amount_db: 15, width_octaves: Math.min(Math.max(widthOctaves, 0.1), 3) }))
  held.value = { heardIds: ids, slices }
  stopsAfter = !play.playing.value
  if (stopsAfter) void play.play(fromS === null ? undefined : Math.round(fromS * play.rate.value))
}
let stopsAfter = false

function letGo() {
  if (held.value && stopsAfter) play.stop()
  stopsAfter = false
  held.value = null
}

/** Loop where the chosen clash is worst, and play. */
function loopWorst() {
  const worst = clash.value?.worst
  if (!worst) return
  bench.setLoop({ startS: worst[0], endS: worst[1] })
  void play.play(Math.round(worst[0] * play.rate.value))
}

const pairHeard = computed(() => (alone.value ? pairIds.value : []))
/** By how much each side of "with and without" is turned down. */
const listening = useLatest(
  () => {
    const entry = clash.value?.entry
    if (!open.value || !state.value || !entry) return null
    return { id: state.value.id, revision: state.value.revision, entry: entry[1], heard: pairHeard.value }
  },
  ({ id, entry, heard }) => api.listeningTo(id, entry, heard),
  () => `${clashId.value} ${pairHeard.value.join()}`,
)
const comparison = useLatest(
  () => (open.value && allTogether.value && state.value ? { id: state.value.id, revision: state.value.revision } : null),
  ({ id }) => api.mixComparison(id),
  () => state.value?.id,
)
/** Whether the mix as a whole is looked at. */
const allTogether = ref(false)
const matchDb = computed(() => {
  const figures = allTogether.value ? comparison.value?.listening : clash.value?.entry ? listening.value : null
  if (!matched.value || !figures || held.value) return 0
  return (allTogether.value ? allMovesOff.value : without.value) ? figures.match_before_db : figures.match_after_db
})

watch(
  () => open.value && {
    heardIds: held.value?.heardIds ?? pairHeard.value, slices: held.value?.slices ?? [], allMovesOff: allMovesOff.value,
    withoutEntryId: without.value ? (clash.value?.entry?.[1] ?? null) : null, matchDb: matchDb.value,
  },
  (now) => (play.together.value = now || null),
)

function enter() {
  open.value = true
  void bringUpToDate()
}

function leave() {
  letGo()
  open.value = false
  without.value = allMovesOff.value = false
}

export function useEnsemble() {
  return {
    view, fresh, progress, problem, clashId, clash, proof, pairIds, closeView, pressed, picturesNow, alone, without, allMovesOff, matched, matchDb, part, limitDb, isDynamic,
    draft, listening, comparison, allTogether, ordered: computed(() => (view.value ? orderedColumns(view.value) : [])), nameOf, accept, takeBack, decide, setRule, removeRule, rights, moveInOrder,
    choose, pick, pressCell, hearSlice, letGo, loopWorst, enter, leave,
  }
}
