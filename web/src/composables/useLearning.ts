/** What a move that keeps places learns from a stretch, and what the user makes of it. */
import { ref, watch } from 'vue'
import type { LedgerEntry, Move, Strip } from '../api/client'
import { questionOf } from '../api/analyses'
import { formatHz } from '../lib/figures'
import { addKeeper, setMove } from '../lib/intents'
import { type Place, type Run, withoutRun } from '../lib/places'
import type { Bench } from './useBench'
import type { Edits } from './useEdits'
import { makeListening, type Stretch } from './useListening'
import type { Play } from './usePlay'
import type { SessionStore } from './useSession'

export type Learning = ReturnType<typeof makeLearning>

export function makeLearning(session: SessionStore, play: Play, bench: Bench, edits: Edits) {
  const listening = makeListening(play, bench)
  /** The move that is learning just now. */
  const learningId = ref<string | null>(null)
  const problem = ref('')
  watch(bench.entryId, () => (problem.value = ''))

  /** Learn from a stretch: play goes on; the places come into the move as one step. */
  async function learn(entryId: string, stretch: Stretch) {
    const strip = session.knownChosen()
    const move = strip?.ledger.find((one) => one.id === entryId)?.move
    if (!strip || !move || !('places' in move) || learningId.value) return
    learningId.value = entryId
    problem.value = ''
    try {
      const { plane } = await session.analyse(
        'survey',
        questionOf('survey', {
          strip_id: strip.id,
          start_s: stretch.startS,
          end_s: stretch.endS,
          low_hz: move.low_hz,
          high_hz: move.high_hz,
        }),
      )
      const { places, loud_places, loud_from_db } = plane
      if (!places?.length && !loud_places?.length)
        problem.value = 'No place there adds to what passes it: nothing learned.'
      const learnt = (known: Strip) => {
        const now = known.ledger.find((one) => one.id === entryId)?.move
        // Meanwhile it may have become another kind of move, which learns nothing.
        return now && 'places' in now
          ? [setMove(known, entryId, { ...now, places, loud_places, loud_from_db } as Move)]
          : []
      }
      await edits.onStrip('Learn places', learnt, strip.id)
    } catch (error) {
      problem.value = error instanceof Error ? error.message : String(error)
    } finally {
      learningId.value = null
    }
  }

  /** Play and learn until told to stop. */
  function turn(entryId: string) {
    const heard = listening.turn()
    if (heard) void learn(entryId, heard)
  }

  const without = (move: Move, figure: string, run: Run) =>
    ({
      ...move,
      [figure]: withoutRun((move as unknown as Record<string, readonly Place[]>)[figure] ?? [], run),
    }) as Move

  const takeOut = ({ id, move }: LedgerEntry, figure: string, run: Run) =>
    edits.changeMove(id, without(move, figure, run), `Take ${formatHz(run.topHz)} out`)

  /** Say that a place is wanted: it leaves the move, and nothing adaptive touches it any more. */
  const keep = ({ id, move }: LedgerEntry, figure: string, run: Run) =>
    edits.onStrip(`Keep ${formatHz(run.topHz)}`, (strip) => [
      setMove(strip, id, without(move, figure, run)),
      addKeeper(strip, { low_hz: run.lowHz, high_hz: run.highHz }),
    ])

  return { learningId, problem, learn, turn, takeOut, keep, listening }
}
