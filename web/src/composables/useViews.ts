/**
 * What the bench's lanes show beside the track itself: after its moves, its pitch line, another track behind it, held
 * peaks.
 */
import { computed, ref, shallowRef, watch } from 'vue'
import { api } from '../api/client'
import { useRead } from '../api/reads'
import type { Bench } from './useBench'
import type { Play } from './usePlay'
import type { SessionStore } from './useSession'

export type Views = ReturnType<typeof makeViews>

export function makeViews(session: SessionStore, play: Play, bench: Bench) {
  const { saved, state, chosen, sound } = session
  const picture = ref<'before' | 'after' | 'difference'>('before')
  const pitchShown = ref(false)
  const behindId = ref('')
  const holding = ref(false)
  const frozen = ref(false)
  const peaks = shallowRef<number[] | null>(null)
  const still = shallowRef<readonly number[] | null>(null)
  const chosenId = () => chosen.value?.id

  /** The chosen strip behind its moves, rendered anew when what it hangs on was saved. */
  const treated = useRead(
    'treated',
    () => {
      const strip = chosen.value
      const wanted = picture.value !== 'before' && strip?.ledger.length
      return wanted ? { strip: strip.id, revision: saved.value.revision } : null
    },
    ({ strip }) => api.treated(session.id, strip),
    () => `${chosenId()} ${picture.value !== 'before'}`,
  ).answer

  /** Which audio the spectrogram shows, and what it is the difference from. */
  const shownAudio = computed(() => {
    const own = sound.value?.audioId ?? ''
    if (picture.value === 'before' || !chosen.value?.ledger.length || !treated.value) return { id: own, beforeId: null }
    return { id: treated.value.audio_id, beforeId: picture.value === 'difference' ? own : null }
  })

  const pitch = useRead(
    'pitch',
    () =>
      pitchShown.value && chosen.value && sound.value ? { strip: chosen.value.id, audio: sound.value.audioId } : null,
    ({ strip }) => api.pitch(session.id, strip),
    () => `${chosenId()} ${pitchShown.value}`,
  ).answer

  /** The average of another track, of a group or of the mix over the same passage. */
  const behind = useRead(
    'behind',
    () => {
      if (!behindId.value || behindId.value === chosenId()) return null
      const start = state.value.loop_start_frame ?? 0
      const end = state.value.loop_end_frame ?? play.songFrames.value
      return { strip: behindId.value, start, end, rate: play.rate.value, revision: saved.value.revision }
    },
    async ({ strip, start, end, rate }) => {
      const track = saved.value.tracks.find((one) => one.id === strip)
      const shown = track
        ? { id: track.audio_id, at: track.start_frame }
        : { id: (await api.bounce(session.id, strip)).audio_id, at: 0 }
      return api.spectrum(shown.id, start - shown.at, end - shown.at, rate)
    },
    () => behindId.value,
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
    behindId,
    behind,
    holding,
    frozen,
    peaks,
    shownLive,
    shownAudio,
    treated,
    passage: bench.loop,
  }
}
