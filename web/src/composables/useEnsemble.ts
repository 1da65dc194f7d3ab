/** The Ensemble: who hides whom, who goes first, which track yields, and what came of it. */
import { computed, onScopeDispose, ref, shallowRef, watch } from 'vue'
import {
  type EnsembleView,
  type Intent,
  type PlanMove,
  type Probe,
  type RegionRule,
  type RightOfWay,
} from '../api/client'
import { questionOf } from '../api/analyses'
import { useRead } from '../api/reads'
import { asPlanned, bandOfHz, moved, NOBODY, orderedColumns, pictureOf, ruleOf } from '../lib/ensemble'
import { formatHz } from '../lib/figures'
import { addMove, removeMove, stripOf } from '../lib/intents'
import type { Bench } from './useBench'
import type { Play } from './usePlay'
import type { SessionStore } from './useSession'

export type Pressed = 'it' | 'hider' | 'both'
/** What the columns show: as it is, without the moves by which tracks give way, or with the plan's taken. */
export type Pictured = 'now' | 'before' | 'planned'

const SLICE_OCTAVES = 0.5
const BEFORE_CELL_S = 0.15

export type Ensemble = ReturnType<typeof makeEnsemble>

export function makeEnsemble(
  session: SessionStore,
  play: Play,
  bench: Bench,
  planned: (moves: readonly PlanMove[]) => number,
) {
  const { version, known, state, edit, analyse, listenedTo } = session

  const open = ref(false)
  const view = shallowRef<EnsembleView | null>(null)
  /** The revision that is shown; older than the session's while work is under way. */
  const shownRevision = ref('')
  const clashId = ref<string | null>(null)
  const pairIds = ref<string[]>([])
  const closeView = ref(false)
  const pressed = ref<Pressed>('both')
  const pictured = ref<Pictured>('now')
  const alone = ref(false)
  const without = ref(false)
  const allMovesOff = ref(false)
  const matched = ref(true)
  const held = shallowRef<{ heardIds: string[]; slices: Probe[] } | null>(null)
  const part = ref(0.5)
  const limitDb = ref<number | null>(null)
  const isDynamic = ref(true)

  const fresh = computed(() => view.value !== null && shownRevision.value === version.value)
  const clash = computed(() => view.value?.clashes?.find((one) => one.id === clashId.value) ?? null)
  const proof = computed(() => {
    const entry = clash.value?.entry
    return (entry && view.value?.proofs?.find((one) => one.entry_id === entry[1])) ?? null
  })
  const names = computed(() => new Map([...state.value.tracks, ...state.value.groups].map((one) => [one.id, one.name])))
  const nameOf = (id: string | null) =>
    id === null ? 'all others together' : (names.value.get(id) ?? 'a track that is gone')

  /** The server listens in the background; until it has, what was heard before stays. */
  const reading = useRead(
    'ensemble',
    () => (open.value ? { revision: version.value } : null),
    async ({ revision }, signal) => ({ revision, got: await analyse('ensemble', {}, signal) }),
    () => session.id,
  )
  const progress = computed(() => ({ done: listenedTo.value?.done ?? 0, of: listenedTo.value?.of ?? 1 }))
  const { problem } = reading
  watch(reading.answer, (now) => {
    if (!now) return
    view.value = now.got
    shownRevision.value = now.revision
    if (!now.got.clashes.some((one) => one.id === clashId.value)) clashId.value = null
  })

  /** What the columns would show with the plan's moves, as many as were chosen in the Round. */
  const plan = useRead(
    'plan of the ensemble',
    () => (open.value && fresh.value ? { revision: version.value } : null),
    (_, signal) => analyse('plan', questionOf('plan', {}), signal),
    () => session.id,
  ).answer
  const nPlanned = computed(() => planned(plan.value?.moves ?? []))
  const withPlan = useRead(
    'planned columns',
    () => (pictured.value === 'planned' && nPlanned.value ? { revision: version.value, n: nPlanned.value } : null),
    ({ n }, signal) => analyse('planned-columns', questionOf('planned-columns', { n_moves: n }), signal),
    () => `${session.id} ${version.value}`,
  )
  watch(nPlanned, (n) => {
    if (!n && pictured.value === 'planned') pictured.value = 'now'
  })

  /** The yield that is proposed for the chosen clash; it waits for a yes. */
  const draft = useRead(
    'yield',
    () => {
      const one = clash.value
      if (!open.value || !fresh.value || !one || one.entry || !one.by || one.first === null || one.same_sound)
        return null
      const asked = { part: part.value, limitDb: limitDb.value, isDynamic: isDynamic.value }
      return { revision: version.value, clashId: one.id, ...asked }
    },
    async ({ clashId: of, part: wanted, limitDb: limit, isDynamic: dynamic }, signal) => ({
      of,
      ...(await analyse('yield', { clash_id: of, part: wanted, limit_db: limit, is_dynamic: dynamic }, signal).catch(
        (error: Error) => {
          if (signal.aborted) throw error
          return { refused: error.message }
        },
      )),
    }),
    () => `${clashId.value} ${part.value} ${limitDb.value} ${isDynamic.value} ${version.value}`,
  ).answer

  /** Let the track that has not the right of way give way as proposed. */
  function accept() {
    const proposed = draft.value
    const strip = proposed && 'entry' in proposed ? stripOf(known.value, proposed.strip_id) : null
    if (!proposed || !('entry' in proposed) || !strip || !clash.value) return
    void edit(`${strip.name} gives way to ${nameOf(clash.value.first ?? null)}`, [addMove(strip, proposed.entry)])
  }

  /** Take the yield of the chosen clash out of its ledger again. */
  function takeBack() {
    const [stripId, entryId] = clash.value?.entry ?? []
    const strip = stripId ? stripOf(known.value, stripId) : null
    const entry = strip?.ledger.find((one) => one.id === entryId)
    if (strip && entry) void edit(`${strip.name} no longer gives way`, [removeMove(strip, entry)])
  }

  const answerClash = (label: string, rule: RegionRule) => void edit(label, [{ do: 'answer-clash', rule }])

  /** Say who goes first in the chosen clash; null: both stay. */
  function decide(first: string | null) {
    const one = clash.value
    if (!one) return
    const where = formatHz(one.centre_hz)
    answerClash(
      first === null ? `Both stay at ${where}` : `${nameOf(first)} goes first at ${where}`,
      ruleOf(one, first),
    )
  }

  const rights = computed<RightOfWay>(() => state.value.right_of_way)

  /** Say who of two goes first in any region. */
  function setRule(rule: RegionRule) {
    const where = `${formatHz(rule.low_hz)} to ${formatHz(rule.high_hz)}`
    const first = rule.first ?? null
    answerClash(first === null ? `Both stay from ${where}` : `${nameOf(first)} goes first from ${where}`, rule)
  }
  const removeRule = (rule: RegionRule) => void edit('Rule removed', [{ do: 'remove-rule', rule }])

  function moveInOrder(id: string, to: number) {
    const order = view.value?.order ?? []
    const next = moved(order, id, Math.min(Math.max(to, 0), order.length - 1))
    if (!view.value || next.join() === order.join()) return
    view.value = { ...view.value, order: next }
    const wanted: Intent = { do: 'set-order', order: next, seen: rights.value.order }
    void edit(`Right of way of ${nameOf(id)}`, [wanted])
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
    pairIds.value = pairIds.value.includes(id)
      ? pairIds.value.filter((one) => one !== id)
      : [...pairIds.value, id].slice(-2)
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
    const ids =
      pressed.value === 'it' || hider === null ? [columnId] : pressed.value === 'hider' ? [hider] : [columnId, hider]
    hearSlice(ids, hz, SLICE_OCTAVES, play.playing.value ? null : Math.max(atS - BEFORE_CELL_S, 0))
  }

  /** Hear a region of some tracks; `fromS`: begin there. */
  function hearSlice(ids: string[], hz: number, widthOctaves: number, fromS: number | null) {
    const slices = ids.map((track_id): Probe => ({
      track_id,
      kind: 'only',
      hz: Math.min(Math.max(hz, 20), 20_000),
      amount_db: 15,
      width_octaves: Math.min(Math.max(widthOctaves, 0.1), 3),
    }))
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
  const comparison = useRead(
    'mix comparison',
    () => (open.value && allTogether.value ? { revision: version.value } : null),
    (_, signal) => analyse('mix-comparison', {}, signal),
    () => session.id,
  ).answer
  /** Whether the mix as a whole is looked at. */
  const allTogether = ref(false)
  const comparedEntry = computed(() => clash.value?.entry?.[1] ?? null)

  watch(
    () =>
      open.value && {
        heardIds: held.value?.heardIds ?? pairHeard.value,
        slices: held.value?.slices ?? [],
        matched: matched.value,
        compares: allTogether.value
          ? ('all-moves' as const)
          : comparedEntry.value
            ? ('one-move' as const)
            : ('nothing' as const),
        entryId: allTogether.value ? null : comparedEntry.value,
        without: allTogether.value ? allMovesOff.value : without.value,
      },
    (now) => (play.together.value = now || null),
  )

  function enter() {
    open.value = true
  }

  function leave() {
    letGo()
    open.value = false
    without.value = allMovesOff.value = false
  }

  onScopeDispose(letGo)

  return {
    view,
    fresh,
    progress,
    problem,
    clashId,
    clash,
    proof,
    pairIds,
    closeView,
    pressed,
    pictured,
    nPlanned,
    planIsHeard: computed(() => withPlan.answer.value !== null),
    alone,
    without,
    allMovesOff,
    matched,
    matchDb: play.matchDb,
    part,
    limitDb,
    isDynamic,
    draft,
    comparison,
    allTogether,
    ordered: computed(() => {
      const columns = view.value ? orderedColumns(view.value) : []
      const planned = pictured.value === 'planned' ? withPlan.answer.value?.columns : undefined
      return planned ? columns.map((column) => asPlanned(column, planned)) : columns
    }),
    nameOf,
    accept,
    takeBack,
    decide,
    setRule,
    removeRule,
    rights,
    moveInOrder,
    choose,
    pick,
    pressCell,
    hearSlice,
    letGo,
    loopWorst,
    enter,
    leave,
  }
}
