/**
 * What the bench's lanes show beside the track itself: after its moves, its pitch line, another track behind it, held
 * peaks.
 */
import { computed, ref, shallowRef, watch } from 'vue'
import { questionOf } from '../api/analyses'
import { useRead } from '../api/reads'
import { smoothing } from './smoothing'
import type { Bench } from './useBench'
import type { Play } from './usePlay'
import type { SessionStore } from './useSession'

export type Views = ReturnType<typeof makeViews>

export function makeViews(session: SessionStore, play: Play, bench: Bench) {
  const { version, chosen, sound, state, analyse } = session
  const picture = ref<'before' | 'after' | 'difference'>('before')
  const pitchShown = ref(false)
  const placesShown = ref(false)
  const behindId = ref('')
  const holding = ref(false)
  const frozen = ref(false)
  const peaks = shallowRef<number[] | null>(null)
  const still = shallowRef<readonly number[] | null>(null)
  const chosenId = () => chosen.value?.id

  /** What the spectrogram shows: of a strip without moves there is nothing but what goes in. */
  const shows = computed(() => (chosen.value?.ledger.length ? picture.value : 'before'))
  /** Changes whenever the spectrogram may be another. */
  const shownContent = computed(() => (shows.value === 'before' ? (sound.value?.content ?? '') : `${version.value}`))

  const pitch = useRead(
    'pitch',
    () => (pitchShown.value && sound.value ? { strip: sound.value.stripId, content: sound.value.content } : null),
    ({ strip }, signal) => analyse('pitch', { strip_id: strip }, signal),
    () => `${chosenId()} ${pitchShown.value}`,
  ).answer

  /** What the places of a track do to whatever passes them. */
  const placeCurve = useRead(
    'places',
    () => {
      if (!placesShown.value || !sound.value) return null
      const [startS, endS] = [bench.loop.value?.startS ?? 0, bench.loop.value?.endS ?? bench.songS.value]
      return { strip: sound.value.stripId, content: sound.value.content, startS, endS }
    },
    ({ strip, startS, endS }, signal) =>
      analyse('survey', questionOf('survey', { strip_id: strip, start_s: startS, end_s: endS }), signal).then(
        ({ curve }) => curve,
      ),
    () => `${chosenId()} ${placesShown.value}`,
  ).answer

  /** The average of another track, of a group, of the mix or of a reference over the same passage. */
  const behind = useRead(
    'behind',
    () => {
      if (!behindId.value || behindId.value === chosenId()) return null
      const [start, end] = [state.value.loop_start_frame ?? 0, state.value.loop_end_frame ?? null]
      const smooth = smoothing.value
      return { strip: chosenId() ?? null, behind: behindId.value, start, end, smooth, revision: version.value }
    },
    async ({ strip, behind, start, end, smooth }, signal) => {
      if (!state.value.references?.some((one) => one.id === behind))
        return (
          await analyse('spectrum', { strip_id: behind, start_frame: start, end_frame: end, smoothing: smooth }, signal)
        ).level_db
      // A reference stands there as if it was as loud as the track.
      const asked = { strip_id: strip, compared: 'reference', other: null, reference_id: behind } as const
      return (await analyse('sides', asked, signal)).beside_db
    },
    () => `${chosenId()} ${behindId.value}`,
  ).answer

  const live = computed(() => {
    if (!play.spectra.value || play.spectra.value.track_id !== chosenId()) return null
    return play.ledgerHeard.value ? play.spectra.value.after_db : play.spectra.value.before_db
  })
  const shownLive = computed(() => (frozen.value ? still.value : live.value))

  watch(live, (now) => {
    if (!holding.value || !now) return
    const known = peaks.value
    peaks.value = known ? now.map((db, index) => Math.max(db, known[index] ?? db)) : [...now]
  })
  watch([holding, chosenId], () => (peaks.value = null))
  watch(frozen, (on) => (still.value = on ? live.value : null))
  watch(chosenId, () => {
    frozen.value = false
    if (behindId.value === chosenId()) behindId.value = ''
  })

  return {
    picture,
    pitchShown,
    pitch,
    placesShown,
    placeCurve,
    behindId,
    behind,
    holding,
    frozen,
    peaks,
    shownLive,
    shows,
    waits: ref(false),
    shownContent,
    passage: bench.loop,
  }
}
