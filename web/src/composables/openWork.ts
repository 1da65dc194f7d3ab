/** Opening a session: its store, and all that is made of it, in a scope that ends with it. */
import { effectScope, type EffectScope } from 'vue'
import { api, type SessionState } from '../api/client'
import { queries } from '../api/reads'
import { showInDebugHandle } from '../debug'
import { makeBench } from './useBench'
import { makeBlind } from './useBlind'
import { makeEdits } from './useEdits'
import { makeEnsemble } from './useEnsemble'
import { makeGuide } from './useGuide'
import { makeHunt } from './useHunt'
import { makeLearning } from './useLearning'
import { makePlay } from './usePlay'
import { makePressure } from './usePressure'
import { makeRound } from './useRound'
import { makeReferences } from './useReferences'
import { makeRemarks } from './useRemarks'
import { makeSession } from './useSession'
import { makeSurvey } from './useSurvey'
import { makeTreatments } from './useTreatments'
import { makeViews } from './useViews'
import type { Work } from './work'

export interface OpenWork {
  readonly work: Work
  readonly scope: EffectScope
}

/** What this server can do stays the same as long as it runs. */
const about = () => queries.ensureQueryData({ queryKey: ['about'], queryFn: api.about })

export async function openWork(sessionId: string): Promise<OpenWork> {
  const [known, opened] = await Promise.all([about(), api.session(sessionId)])
  const scope = effectScope(true)
  const work = scope.run(() => workOn(known, opened)) as Work
  showInDebugHandle(work)
  return { work, scope }
}

function workOn(known: Awaited<ReturnType<typeof about>>, opened: SessionState): Work {
  const session = makeSession(known, opened)
  const play = makePlay(session)
  const bench = makeBench(session, play)
  const edits = makeEdits(session, play, bench)
  const hunt = makeHunt(session, play, bench, edits)
  const views = makeViews(session, play, bench)
  const survey = makeSurvey(session, play, bench, edits)
  const learning = makeLearning(session, play, bench, edits)
  const round = makeRound(session, play, bench)
  const ensemble = makeEnsemble(session, play, bench, round.plannedOf)
  const pressure = makePressure(session, play)
  const treatments = makeTreatments(session, play)
  const blind = makeBlind(session, play)
  const references = makeReferences(session, play)
  const remarks = makeRemarks(session, play, bench)
  const guide = makeGuide(session, play, hunt)
  const listening = { session, play, bench, edits, hunt, views, survey, learning }
  return { ...listening, ensemble, pressure, round, treatments, blind, references, remarks, guide }
}
