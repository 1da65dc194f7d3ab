/** The round: one list over the whole session of what is to be judged, worked through with the ear in charge. */
import { computed, onScopeDispose, ref, shallowRef, watch } from 'vue'
import { api, type Intent, type PlanMove, type Probe, type RoundRow, type RoundView } from '../api/client'
import { useRead } from '../api/reads'
import { addMove, stripOf } from '../lib/intents'
import {
  answered,
  carriedOver,
  deeper,
  inOrder,
  lowCuts,
  planMoves,
  proposed,
  putRight,
  reportOf,
  sureRows,
  type RoundOrder,
  type SuspectAnswer,
} from '../lib/round'
import { probeOfSuspect, type SuspectAudition } from '../lib/suspects'
import type { Bench } from './useBench'
import type { Play } from './usePlay'
import type { SessionStore } from './useSession'

/** How sure the rows must be that are drafted at once, in the words of the list. */
export const SURE = [
  [0.65, 'almost certain'],
  [0.35, 'likely and surer'],
  [0.2, 'possible and surer'],
] as const
const REFRESH_MS = 600
const PAUSE_SHARE = 3 // of how long it takes to read the list: that long it is not read again
const ENOUGH_WON = 0.9

export type Answer = 'yes' | 'tame' | 'no' | 'fine' | 'later'
export type Round = ReturnType<typeof makeRound>

export function makeRound(session: SessionStore, play: Play, bench: Bench) {
  const { id, about, version, treatment, known, state, chosenId, edit, analyse } = session
  const open = ref(false)
  const order = ref<RoundOrder>('heard')
  const rowId = ref<string | null>(null)
  const view = shallowRef<RoundView | null>(null)
  /** The revision that is shown; older than the session's while work is under way. */
  const shownRevision = ref('')
  const leastSure = ref<number>(0.35)
  const nPlanned = ref<number | null>(null)
  const planHeard = ref(false)
  const problem = ref('')

  /** Read again when anything was found that the rows may hang on. */
  const tick = ref(0)
  let askedRevision = ''
  let pauseMs = REFRESH_MS
  let soon: ReturnType<typeof setTimeout> | undefined
  const stopHearing = session.news.on((news) => {
    if (!open.value || news.about !== 'product' || news.status !== 'done' || soon) return
    soon = setTimeout(() => {
      soon = undefined
      tick.value += 1
    }, pauseMs)
  })
  const reading = useRead(
    'round',
    () => (open.value ? { revision: version.value, tick: tick.value } : null),
    async ({ revision }, signal) => {
      const began = performance.now()
      // What is missing is asked for once; after that, the list is only read again.
      const got = await api.round(id, treatment.value, session.news.pageId, askedRevision !== revision, signal)
      askedRevision = revision
      pauseMs = Math.max(REFRESH_MS, PAUSE_SHARE * (performance.now() - began))
      return { revision, got }
    },
    () => [id, treatment.value],
  )
  watch(reading.answer, (now) => {
    if (!now) return
    view.value = carriedOver(now.got, view.value)
    shownRevision.value = now.revision
  })
  /** Whether the list is of the session as it is now; some of it may still be listened to. */
  const upToDate = computed(() => !session.pending.value.length && shownRevision.value === version.value)
  /** Whether everything is heard of the session as it is now. */
  const allHeard = computed(() => upToDate.value && view.value?.waiting === 0)

  const trackIds = computed(() => state.value.tracks.map((track) => track.id))
  const rows = computed(() => inOrder(view.value?.rows ?? [], order.value, trackIds.value))
  const toJudge = computed(() => rows.value.filter((row) => row.status === 'to judge'))
  const counts = computed(() => ({
    toJudge: toJudge.value.length,
    done: rows.value.filter((row) => row.status === 'done').length,
    later: rows.value.filter((row) => row.status === 'later').length,
  }))
  const row = computed(() => rows.value.find((one) => one.id === rowId.value) ?? null)
  const strip = computed(() => stripOf(state.value, row.value?.strip_ids[0] ?? null))

  /** How many of the plan's moves: as many as win most of it, until the user says otherwise. */
  function plannedOf(moves: readonly PlanMove[]): number {
    const enough = moves.findIndex((one) => one.won >= ENOUGH_WON) + 1
    return Math.min(nPlanned.value ?? (enough || moves.length), moves.length)
  }
  const planned = computed(() => plannedOf(view.value?.plan?.moves ?? []))

  const frames = (seconds: number) => Math.round(seconds * play.rate.value)

  /** Choose a row: its loop plays at once, in the mix or alone. */
  function choose(one: RoundRow | null, plays = true) {
    hear(null)
    if (planHeard.value) void hearPlan(false)
    rowId.value = one?.id ?? null
    play.ownLoop.value = one?.loop_s ? [frames(one.loop_s[0]), frames(one.loop_s[1])] : null
    const first = one?.strip_ids[0]
    if (first) chosenId.value = first
    if (one && plays) void play.play(play.ownLoop.value?.[0])
  }

  /** Where the chosen row stood last: a row that is gone from the list leaves its place behind. */
  let lastAt = -1
  watch([rows, rowId], () => {
    const at = rows.value.findIndex((one) => one.id === rowId.value)
    if (at >= 0) lastAt = at
  })
  function step(by: 1 | -1) {
    const list = rows.value
    const found = list.findIndex((one) => one.id === rowId.value)
    const at = found >= 0 ? found : by > 0 ? lastAt - 1 : lastAt
    choose(list[Math.min(Math.max(at + by, 0), list.length - 1)] ?? null)
  }

  /** Hold to hear the fault of the chosen row alone, gone, or lifted; null lets go. */
  function hear(how: SuspectAudition | null) {
    const suspect = row.value?.suspects?.[0]
    play.probe.value =
      how && suspect
        ? ({
            ...probeOfSuspect(suspect.suspect, how, about.value.probe.amount_db),
            track_id: suspect.strip_id,
          } satisfies Probe)
        : null
    if (how && row.value?.kind === 'tracks') void hearDraft(putRight(row.value, known.value))
    else if (!how && row.value?.kind === 'tracks') play.draftId.value = null
    if (how && !play.playing.value) void play.play(play.ownLoop.value?.[0])
  }

  async function hearDraft(intents: Intent[]) {
    try {
      play.draftId.value = await session.keepDraft(intents)
    } catch (error) {
      problem.value = error instanceof Error ? error.message : String(error)
    }
  }

  /** The whole plan, heard as if it were taken. */
  async function hearPlan(on: boolean) {
    planHeard.value = on
    if (!on || !view.value) play.draftId.value = null
    else await hearDraft(planMoves(view.value, planned.value, known.value))
  }
  const setPlanned = (n: number) => {
    nPlanned.value = Math.min(Math.max(Math.round(n), 0), view.value?.plan?.moves.length ?? 0)
    if (planHeard.value) void hearPlan(true)
  }

  /** The row that plays after one is answered. */
  function next(after: RoundRow) {
    const list = rows.value
    const at = list.findIndex((one) => one.id === after.id)
    const open_ = (one: RoundRow) => one.status === 'to judge' && one.id !== after.id
    choose(list.slice(at + 1).find(open_) ?? list.find(open_) ?? null)
  }

  const nameOf = (one: RoundRow) => one.sentence.slice(0, 120)
  const suspects = (one: RoundRow, how: SuspectAnswer) => answered(one, how, known.value)

  /** What an answer comes to, or null where a row of this kind has no such answer. */
  async function intentsOf(one: RoundRow, answer: Answer): Promise<Intent[] | null> {
    const judged = (verdict: 'fine' | 'later' | null): Intent[] => [{ do: 'judge-row', row_ids: [one.id], verdict }]
    if (answer === 'later') return judged(one.status === 'later' ? null : 'later')
    if (one.status === 'done') return null
    const now = view.value
    if (answer === 'yes') {
      if (one.deeper) return deeper(one, known.value)
      if (one.kind === 'suspect') return suspects(one, proposed(one))
      if (one.kind === 'cellar') return lowCuts(one, known.value)
      if (one.kind === 'plan') return now && planned.value ? planMoves(now, planned.value, known.value) : null
      if (one.kind === 'tracks') return putRight(one, known.value)
      if (one.kind === 'clash' && one.clash) {
        const draft = await analyse('yield', { clash_id: one.clash.id, part: 0.5, limit_db: null, is_dynamic: true })
        const yielding = stripOf(known.value, draft.strip_id)
        return yielding ? [addMove(yielding, draft.entry)] : null
      }
      return null
    }
    if (one.kind === 'clash' && one.clash) {
      const { hidden, by, low_hz, high_hz } = one.clash
      if (answer === 'tame' || !by) return null
      const rule = { one: hidden, other: by, low_hz, high_hz, first: answer === 'no' ? by : null }
      return [{ do: 'answer-clash', rule } as Intent]
    }
    if (one.kind === 'suspect' && one.suspects?.length && !one.entries?.length) {
      if (answer === 'tame') return suspects(one, proposed(one) === 'tame' ? 'cut' : 'tame')
      return suspects(one, answer === 'no' ? 'wanted' : 'not-a-fault')
    }
    return answer === 'fine' ? judged('fine') : null
  }

  const WORDS: Record<Answer, string> = {
    yes: '',
    tame: '',
    no: 'wanted: ',
    fine: 'as it should be: ',
    later: 'later: ',
  }

  /** Answer the chosen row; the next one plays, and what was done is measured meanwhile. */
  async function answer(how: Answer, one = row.value) {
    if (!one) return
    problem.value = ''
    try {
      const intents = await intentsOf(one, how)
      if (!intents?.length) return
      next(one)
      await edit(`${WORDS[how]}${nameOf(one)}`, intents)
    } catch (error) {
      problem.value = error instanceof Error ? error.message : String(error)
    }
  }

  const sure = computed(() => sureRows(rows.value, leastSure.value))
  /** Answer all rows that are sure enough and heard, as one step; what came of it is told in the list. */
  async function draftSure() {
    const list = sure.value
    if (!list.length) return
    const intents = list.flatMap((one) => suspects(one, proposed(one)))
    choose(toJudge.value.find((one) => !list.includes(one)) ?? null)
    await edit(`Drafted: ${list.length} that are sure`, intents)
  }
  const report = computed(() => reportOf(rows.value))

  let wasAlone = true
  /** The round is heard in the mix at first; on other screens it is heard as it was there. */
  function enter() {
    open.value = true
    wasAlone = play.alone.value
    play.alone.value = false
  }
  function leave() {
    hear(null)
    if (planHeard.value) void hearPlan(false)
    play.ownLoop.value = null
    play.alone.value = wasAlone
    open.value = false
  }
  function toBench(one: RoundRow) {
    const [stripId, entryId] = one.entries?.[0] ?? [one.strip_ids[0], undefined]
    if (stripId) chosenId.value = stripId
    bench.entryId.value = entryId ?? null
  }
  onScopeDispose(() => {
    clearTimeout(soon)
    stopHearing()
  })

  return {
    open,
    upToDate,
    allHeard,
    order,
    view,
    rows,
    counts,
    row,
    rowId,
    strip,
    sure,
    leastSure,
    report,
    planned,
    plannedOf,
    planHeard,
    problem: computed(() => problem.value || reading.problem.value),
    choose,
    step,
    hear,
    hearPlan,
    setPlanned,
    answer,
    draftSure,
    toBench,
    enter,
    leave,
  }
}
