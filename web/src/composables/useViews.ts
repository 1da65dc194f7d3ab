/** What the bench's lanes show beside the track itself: after its moves, its pitch line, another track behind it, held peaks. */
import { computed, ref, shallowRef, watch } from 'vue'
import { api } from '../api/client'
import { useBench } from './useBench'
import { useLatest } from './useLatest'
import { usePlay } from './usePlay'
import { useSession } from './useSession'

const { state, chosen } = useSession()
const play = usePlay()
const bench = useBench()

const picture = ref<'before' | 'after' | 'difference'>('before')
const pitchShown = ref(false)
const behindId = ref('')
const holding = ref(false)
const frozen = ref(false)
const peaks = shallowRef<number[] | null>(null)
const still = shallowRef<readonly number[] | null>(null)
const chosenId = () => chosen.value?.id

/** The chosen strip behind its moves, rendered anew when what it hangs on was saved. */
const treated = useLatest(
  () => {
    const session = state.value
    const strip = chosen.value
    return picture.value !== 'before' && session && strip?.ledger.length ? { id: session.id, strip: strip.id, revision: session.revision } : null
  },
  ({ id, strip }) => api.treated(id, strip),
  () => `${chosenId()} ${picture.value !== 'before'}`,
)

/** Which audio the spectrogram shows, and what it is the difference from. */
const shownAudio = computed(() => {
  const own = chosen.value?.audio_id ?? ''
  if (picture.value === 'before' || !chosen.value?.ledger.length || !treated.value) return { id: own, beforeId: null }
  return { id: treated.value.audio_id, beforeId: picture.value === 'difference' ? own : null }
})

const pitch = useLatest(
  () => (pitchShown.value && state.value && chosen.value?.audio_id ? { id: state.value.id, strip: chosen.value.id, audio: chosen.value.audio_id } : null),
  ({ id, strip }) => api.pitch(id, strip),
  () => `${chosenId()} ${pitchShown.value}`,
)

/** The average of another track, of a group or of the mix over the same passage. */
const behind = useLatest(
  () => {
    const session = state.value
    if (!session || !behindId.value || behindId.value === chosenId()) return null
    const start = session.loop_start_frame ?? 0
    return { id: session.id, strip: behindId.value, start, end: session.loop_end_frame ?? play.songFrames.value, rate: play.rate.value, revision: session.revision }
  },
  async ({ id, strip, start, end, rate }) => {
    const track = state.value?.tracks.find((one) => one.id === strip)
    const sound = track ? { audio_id: track.audio_id, at: track.start_frame } : { audio_id: (await api.bounce(id, strip)).audio_id, at: 0 }
    return api.spectrum(sound.audio_id, start - sound.at, end - sound.at, rate)
  },
  () => behindId.value,
)

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

export function useViews() {
  return { picture, pitchShown, pitch, behindId, behind, holding, frozen, peaks, shownLive, shownAudio, treated, passage: bench.loop }
}
