/** Pure helpers of the round: what an answer to a row is, as intents. */
import type { Intent, LedgerEntry, RoundRow, RoundView, SessionState } from '../api/client'
import { addMove, setMove, setTrack, stripOf } from './intents'
import { newId } from './moves'

export type SuspectAnswer = 'cut' | 'tame' | 'wanted' | 'not-a-fault'
export type RoundOrder = 'heard' | 'track'

const STATUS = ['to judge', 'later', 'done'] as const

/** What is heard anew after an edit stays as it was heard before until that is known: no row jumps meanwhile. */
export function carriedOver(now: RoundView, before: RoundView | null): RoundView {
  const known = new Map((before?.rows ?? []).map((row) => [row.id, row]))
  const rows = now.rows.map((row) => {
    const old = known.get(row.id)
    if (row.is_measuring && old?.entries?.length) {
      const { status, outcome, deeper, proposes, heard } = old
      return { ...row, status, outcome, deeper, proposes, heard }
    }
    if (row.change_db != null || old?.change_db == null) return row
    const { heard, change_db, in_mix_db, covered_by, loop_s, weight } = old
    return { ...row, heard, change_db, in_mix_db, covered_by, loop_s, weight }
  })
  return { ...now, rows, plan: now.plan ?? (now.waiting ? (before?.plan ?? null) : null) }
}

/** Rows as they are shown: those to judge first, by their weight, or by track. */
export function inOrder(rows: readonly RoundRow[], order: RoundOrder, trackIds: readonly string[]): RoundRow[] {
  const place = (row: RoundRow) => {
    const at = trackIds.indexOf(row.strip_ids[0] ?? '')
    if (row.strip_ids.length !== 1) return 0
    return at < 0 ? trackIds.length + 1 : at + 1 // groups and the mix stand behind all tracks
  }
  const by = order === 'track' ? place : () => 0
  return rows
    .map((row, index) => ({ row, index }))
    .sort(
      (a, b) =>
        STATUS.indexOf(a.row.status) - STATUS.indexOf(b.row.status) ||
        by(a.row) - by(b.row) ||
        b.row.weight - a.row.weight ||
        a.index - b.index,
    )
    .map(({ row }) => row)
}

export interface Report {
  readonly text: string
  readonly stripIds: readonly string[]
}

/** What became of all suspects that moves answer: how many, on how many tracks, cured, better, not, over-cut. */
export function reportOf(rows: readonly RoundRow[]): Report {
  const done = rows.filter((one) => one.kind === 'suspect' && one.entries?.length)
  const stripIds = [...new Set(done.flatMap((one) => one.entries?.map(([stripId]) => stripId) ?? []))]
  if (!done.length) return { text: '', stripIds }
  const count = (is: (one: RoundRow) => boolean) => done.filter(is).length
  const overCut = count((one) => one.outcome?.includes('more is gone') ?? false)
  const measured = (word: string) => count((one) => !one.is_measuring && (one.outcome?.startsWith(word) ?? false))
  const parts = [
    `${measured('cured')} cured`,
    `${measured('better')} better`,
    `${measured('not yet')} not yet`,
    ...[count((one) => one.is_measuring ?? false)].filter((n) => n).map((n) => `${n} being measured`),
  ]
  const on = `${done.length} on ${stripIds.length} track${stripIds.length === 1 ? '' : 's'}`
  return { text: `${on}: ${parts.join(', ')}${overCut ? `; more than stood out is gone at ${overCut}` : ''}`, stripIds }
}

/** An answer to the suspects of a row, of all tracks that have it; twins share one ledger. */
export function answered(row: RoundRow, how: SuspectAnswer, state: SessionState): Intent[] {
  const seenTwins = new Set<string>()
  return (row.suspects ?? []).flatMap(({ strip_id, suspect }): Intent[] => {
    const strip = stripOf(state, strip_id)
    const twin = strip?.kind === 'track' ? strip.twin_id : null
    if (!strip || (twin && seenTwins.has(twin))) return []
    if (twin) seenTwins.add(twin)
    const common = { do: 'answer-suspect', strip_id, answer: how, hz: suspect.hz, q: suspect.q }
    if (how === 'wanted') return [{ ...common, keeper: suspect.keeper } as Intent]
    if (how === 'not-a-fault') return [common as Intent]
    const reason = `${suspect.kind}: ${suspect.sentence}`.slice(0, 500)
    const entry: LedgerEntry = { id: newId(), move: suspect[how], reason, evidence: suspect.evidence, clash: null }
    return [{ ...common, entry } as Intent]
  })
}

/** What Mivlo would do about the suspects of a row. */
export const proposed = (row: RoundRow): SuspectAnswer => row.suspects?.[0]?.suspect.proposed ?? 'cut'

/** Rows that are surer than asked for and are heard in the mix: what is drafted at once. */
export const sureRows = (rows: readonly RoundRow[], leastConfidence: number) =>
  rows.filter(
    (row) =>
      row.kind === 'suspect' &&
      row.status === 'to judge' &&
      !row.entries?.length &&
      (row.confidence ?? 0) >= leastConfidence &&
      (row.heard === 'plain' || row.heard === 'faint'),
  )

/** The plan's first moves. */
export const planMoves = (view: RoundView, n: number, state: SessionState): Intent[] =>
  (view.plan?.moves ?? []).slice(0, n).flatMap((one) => {
    const strip = stripOf(state, one.strip_id)
    return strip ? [addMove(strip, one.entry)] : []
  })

/** Two tracks of one source put right: the second flipped, and whichever is late moved forward. */
export function putRight(row: RoundRow, state: SessionState): Intent[] {
  const pair = row.relation
  const [first, second] = [pair?.first, pair?.second].map((id) => state.tracks.find((one) => one.id === id))
  if (!pair || !first || !second) return []
  const start = (second.start_frame ?? 0) - pair.shift_frames
  const flip = pair.flipped ? { polarity_flipped: !second.polarity_flipped } : {}
  if (start >= 0) return [setTrack(second, { ...flip, ...(pair.shift_frames ? { start_frame: start } : {}) })]
  // Nothing starts before the session does: then the other one waits.
  const waits = setTrack(first, { start_frame: (first.start_frame ?? 0) - start })
  return [setTrack(second, { ...flip, start_frame: 0 }), waits]
}

/** The low cuts of the cellar. */
export const lowCuts = (row: RoundRow, state: SessionState): Intent[] =>
  (row.cellar ?? []).flatMap(({ strip_id, move }) => {
    const strip = stripOf(state, strip_id)
    const reason = 'Clear the cellar: nothing is played below'
    const entry: LedgerEntry = { id: newId(), move: move as LedgerEntry['move'], reason, evidence: null, clash: null }
    return strip ? [addMove(strip, entry, { head: true })] : []
  })

/** A cut that goes as deep as holds a fault down. */
export function deeper(row: RoundRow, state: SessionState): Intent[] {
  const [stripId, entryId] = row.entries?.[0] ?? []
  const strip = stripId ? stripOf(state, stripId) : null
  const intent = strip && entryId && row.deeper ? setMove(strip, entryId, row.deeper) : null
  return intent ? [intent] : []
}
