/** A short guided cure: three steps on the bench, each done by doing it, left at any time. */
import { computed, ref, watch } from 'vue'
import type { Hunt } from './useHunt'
import type { Play } from './usePlay'
import type { SessionStore } from './useSession'

const TRACK = 'Frame drum'
const STEPS = [
  'This drum rings on after every stroke. Press Play, up in the bar, and listen; ' +
    'then press “find suspects”, at the top right.',
  'The first suspect is unfolded: a ring. Hold “alone” to hear just that, ' +
    'then “without”, to hear the drum as it would be.',
  'Was that the fault? Press “cut”, in the same note.',
] as const
const LAST = STEPS.length - 1
const MEASURING = 'It is cut; what became of the ring is being measured on the treated sound.'
const MORE = 'Better, but some of it is left, its note sentence. Press “dB deeper” there.'
const COMPARE =
  'Cured, measured on the treated sound. Now press “before” and “after”, below: the ring goes, the drum stays.'
const DONE = 'That is a cure. “undo” takes it back. The other tracks wait; Round lists all that is to be judged.'
const HOLDS = 2 // alone, and without

export type Guide = ReturnType<typeof makeGuide>

export function makeGuide(session: SessionStore, play: Play, hunt: Hunt) {
  const { state, chosen, chosenId } = session
  /** Which step one is at; behind the last one, it is done; null: nobody is guided. */
  const step = ref<number | null>(null)
  const switched = ref(false)
  const holds = ref(0)

  function begin() {
    const drum = state.value.tracks.find((track) => track.name === TRACK) ?? state.value.tracks[0]
    if (!drum) return
    chosenId.value = drum.id
    play.alone.value = true
    step.value = 0
    switched.value = false
    holds.value = 0
  }
  const leave = () => (step.value = null)

  const isCut = computed(() => chosen.value?.ledger.some((entry) => entry.evidence !== null) ?? false)
  const verdict = computed(() => (isCut.value ? hunt.cure.value : null))
  const goesOn = computed(() => verdict.value?.deeper != null)
  watch(play.ledgerHeard, () => verdict.value && !goesOn.value && (switched.value = true))
  watch(
    () => !!play.probe.value,
    (sounds) => step.value === 1 && !sounds && (holds.value += 1),
  )
  watch(
    () => [step.value, hunt.suspectId.value, holds.value, isCut.value, switched.value] as const,
    ([now, suspect, heard, cut, compared]) => {
      if (now === 0 && (suspect || cut)) step.value = 1
      else if (now === 1 && (cut || heard >= HOLDS)) step.value = LAST
      else if (now === LAST && cut && compared) step.value = STEPS.length
    },
  )

  const sentence = computed(() => {
    if (step.value === null) return ''
    if (step.value < LAST || (step.value === LAST && !isCut.value)) return STEPS[step.value] ?? ''
    if (step.value > LAST) return DONE
    return !verdict.value ? MEASURING : goesOn.value ? MORE : COMPARE
  })
  const isDone = computed(() => step.value === STEPS.length)
  return { step, sentence, isDone, of: STEPS.length, begin, leave }
}
