/**
 * The work on one open session: made when it is opened, gone when it is left; everything in it is found through this.
 */
import { inject, type InjectionKey } from 'vue'
import type { Bench } from './useBench'
import type { Edits } from './useEdits'
import type { Ensemble } from './useEnsemble'
import type { Guide } from './useGuide'
import type { Hunt } from './useHunt'
import type { Learning } from './useLearning'
import type { Play } from './usePlay'
import type { Pressure } from './usePressure'
import type { References } from './useReferences'
import type { Remarks } from './useRemarks'
import type { SessionStore } from './useSession'
import type { Round } from './useRound'
import type { Survey } from './useSurvey'
import type { BlindChecks } from './useBlind'
import type { Treatments } from './useTreatments'
import type { Views } from './useViews'

export interface Work {
  readonly session: SessionStore
  readonly play: Play
  readonly bench: Bench
  readonly edits: Edits
  readonly hunt: Hunt
  readonly views: Views
  readonly survey: Survey
  readonly learning: Learning
  readonly ensemble: Ensemble
  readonly pressure: Pressure
  readonly round: Round
  readonly treatments: Treatments
  readonly blind: BlindChecks
  readonly references: References
  readonly remarks: Remarks
  readonly guide: Guide
}

export const WORK: InjectionKey<Work> = Symbol('work')

export function useWork(): Work {
  const work = inject(WORK)
  if (!work) throw new Error('outside of an open session there is no work on one')
  return work
}

export const useSession = () => useWork().session
export const usePlay = () => useWork().play
export const useBench = () => useWork().bench
export const useEdits = () => useWork().edits
export const useHunt = () => useWork().hunt
export const useViews = () => useWork().views
export const useSurvey = () => useWork().survey
export const useLearning = () => useWork().learning
export const useEnsemble = () => useWork().ensemble
export const usePressure = () => useWork().pressure
export const useRound = () => useWork().round
export const useTreatments = () => useWork().treatments
export const useBlind = () => useWork().blind
export const useReferences = () => useWork().references
export const useRemarks = () => useWork().remarks
export const useGuide = () => useWork().guide
