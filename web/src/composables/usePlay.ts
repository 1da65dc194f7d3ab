/** Playing: what is heard just now, and how the user listens. */
import { computed, ref, shallowRef, watch } from 'vue'
import { api, type FromMonitor, type GroupState, type Mix, type Probe, type TrackState } from '../api/client'
import { Monitor } from '../audio/monitor'
import { useLatest } from './useLatest'
import { useSession } from './useSession'

type Meter = Extract<FromMonitor, { say: 'meter' }>
type Spectra = Extract<FromMonitor, { say: 'spectra' }>
type Gains = Extract<FromMonitor, { say: 'gains' }>

/** How the tracks are heard together in the Ensemble. */
export interface Together {
  /** Only these tracks and groups; none: all. */
  readonly heardIds: string[]
  /** A move that is left out for a comparison. */
  readonly withoutEntryId: string | null
  readonly allMovesOff: boolean
  readonly slices: Probe[]
  readonly matchDb: number
}

const { about, state, chosen } = useSession()
const playing = ref(false)
const positionFrame = ref(0)
const connection = ref<'unopened' | 'connected' | 'lost'>('unopened')
const message = ref('')
const alone = ref(true)
const ledgerHeard = ref(true)
const matched = ref(true)
const dim = ref(false)
const queueMs = ref(36)
const offcuts = ref(false)
const sliceEntryId = ref<string | null>(null)
const probe = shallowRef<Probe | null>(null)
/** Probes that stay while another one is moved. */
const heldProbes = shallowRef<Probe[]>([])
/** The pitch pipe's frequency while it sounds. */
const pipeHz = ref<number | null>(null)
/** Set while the Ensemble is on: then it is not one track's bench that is heard. */
const together = shallowRef<Together | null>(null)
const meter = shallowRef<Meter | null>(null)
const spectra = shallowRef<Spectra | null>(null)
const gains = shallowRef<Gains | null>(null)
let monitor: Monitor | null = null

const rate = computed(() => state.value?.sample_rate_hz ?? 48_000)
const songFrames = computed(() => Math.max(1, ...(state.value?.tracks.map((track) => track.start_frame + track.audio.n_frames) ?? [1])))

/** The level match is measured again when what it hangs on was saved. */
const listening = useLatest(
  () => {
    const session = state.value
    const track = chosen.value
    return session && track && { id: session.id, revision: session.revision, trackId: track.id, alone: alone.value }
  },
  ({ id, trackId, alone: only }) => api.listening(id, trackId, only),
  () => `${chosen.value?.id} ${alone.value}`,
)

const matchDb = computed(() => {
  if (!matched.value || !listening.value) return 0
  return ledgerHeard.value ? listening.value.match_after_db : listening.value.match_before_db
})

const mix = computed<Mix | null>(() => {
  const session = state.value
  const track = chosen.value
  if (!session) return null
  const figures = ledgerHeard.value ? listening.value?.after : listening.value?.before
  return {
    tracks: session.tracks.map((t) => ({
      ...heard(t), audio_id: t.audio_id, start_frame: t.start_frame, pan: t.pan, polarity_flipped: t.polarity_flipped, group_id: t.group_id ?? null,
    })),
    groups: session.groups.map(heard),
    master: heard(session.master),
    dim: dim.value,
    loop_start_frame: session.loop_start_frame,
    loop_end_frame: session.loop_end_frame,
    ...(together.value ? heardTogether(together.value) : {
      heard_ids: [],
      alone_track_id: alone.value ? (track?.id ?? null) : null,
      offcuts_track_id: offcuts.value ? (track?.id ?? null) : null,
      slice: sliceEntryId.value && track ? { track_id: track.id, entry_id: sliceEntryId.value } : null,
      probe: probe.value,
      held_probes: heldProbes.value,
      pipe_hz: pipeHz.value,
      guard: { loudness_lufs: lowered(figures?.loudness_lufs), true_peak_db: lowered(figures?.true_peak_db) },
      match_db: offcuts.value || sliceEntryId.value ? 0 : matchDb.value,
    }),
  }
})

const heardTogether = ({ heardIds, slices, matchDb: match_db }: Together) => ({
  heard_ids: heardIds, alone_track_id: null, offcuts_track_id: null, slice: null, probe: null, held_probes: slices, pipe_hz: null,
  guard: { loudness_lufs: null, true_peak_db: null }, match_db,
})

/** What the engine needs of a track or a group; the ledger on the bench may be off for a comparison. */
function heard(one: TrackState | GroupState) {
  const now = together.value
  const on = one.ledger_on && (now ? !now.allMovesOff : one.id !== chosen.value?.id || ledgerHeard.value)
  const ledger = now?.withoutEntryId ? one.ledger.map((entry) => (entry.id === now.withoutEntryId ? { ...entry, move: { ...entry.move, on: false } } : entry)) : one.ledger
  return { id: one.id, gain_db: one.gain_db, solo: one.solo, mute: one.mute, ledger_on: on, ledger, phase: one.phase, keepers: one.keepers }
}

/** What the guard goes by is what is heard: after the level match. */
const lowered = (db: number | null | undefined) => (db === null || db === undefined ? null : db + matchDb.value)

/** What is heard changes only when something in it did: a saved edit that was shown before sends nothing anew. */
const mixKey = computed(() => `${chosen.value?.id} ${JSON.stringify(mix.value)}`)
watch(mixKey, () => {
  if (mix.value && playing.value) monitor?.setMix(mix.value, chosen.value?.id ?? null)
}, { flush: 'sync' })

watch(() => chosen.value?.id, () => {
  spectra.value = null
  gains.value = null
  sliceEntryId.value = null
  probe.value = null
  heldProbes.value = []
  pipeHz.value = null
})

function makeMonitor(): Monitor {
  return new Monitor(`ws://${location.hostname}:${about.value?.monitor_port}/monitor`, {
    connected() {
      if (connection.value === 'lost') message.value = ''
      connection.value = 'connected'
    },
    lost() {
      connection.value = 'lost'
      playing.value = false
    },
    position(frame) {
      positionFrame.value = frame
    },
    said(said) {
      if (said.say === 'meter') meter.value = playing.value ? said : null // one may still be under way after a stop
      else if (said.say === 'spectra') spectra.value = said
      else if (said.say === 'gains') gains.value = playing.value ? said : null
      else if (said.say === 'blown') {
        const session = state.value
        const name = session && [...session.tracks, ...session.groups, session.master].find((one) => one.id === said.track_id)?.name
        message.value = `The moves of ${name ?? 'a track'} came to hold no valid numbers; they were reset, and it was silent for a moment.`
      } else if (said.say === 'problem') {
        message.value = `Cannot play: ${said.message}`
        playing.value = false
      } else if (said.say === 'ended') {
        playing.value = false
        positionFrame.value = 0
      }
    },
  })
}

async function open() {
  if (!about.value) return
  monitor ??= makeMonitor()
  const first = connection.value === 'unopened'
  await monitor.open(rate.value)
  if (first) await until(() => connection.value !== 'unopened')
}

const until = (condition: () => boolean) =>
  new Promise<void>((resolve) => {
    const check = () => (condition() ? resolve() : void setTimeout(check, 10))
    check()
  })

async function play(fromFrame?: number) {
  if (!mix.value) return
  await open()
  if (connection.value !== 'connected' || !monitor) return
  message.value = ''
  const session = state.value
  const inLoop = session?.loop_start_frame ?? null
  let from = fromFrame ?? positionFrame.value
  if (fromFrame === undefined && inLoop !== null && (from < inLoop || from >= (session?.loop_end_frame ?? 0))) from = inLoop
  if (from >= songFrames.value) from = 0
  positionFrame.value = from
  playing.value = true
  monitor.play(from, rate.value, mix.value, chosen.value?.id ?? null, queueMs.value)
}

function stop() {
  playing.value = false
  meter.value = null
  spectra.value = null
  gains.value = null
  monitor?.stop()
}

const toggle = () => (playing.value ? stop() : void play())

function seek(frame: number) {
  const at = Math.max(0, Math.min(Math.round(frame), songFrames.value - 1))
  positionFrame.value = at
  if (playing.value) void play(at)
}

export function usePlay() {
  return {
    playing, positionFrame, connection, message, alone, ledgerHeard, matched, matchDb, dim, queueMs, offcuts, sliceEntryId, probe, heldProbes, pipeHz, together, meter,
    spectra, gains, listening, rate, songFrames, mix, play, stop, toggle, seek, monitor: () => monitor, open,
  }
}
