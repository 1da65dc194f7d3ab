/** Playing: how the user listens just now, and what the sound process tells of it. */
import { computed, onScopeDispose, ref, shallowRef, watch } from 'vue'
import { smoothing } from './smoothing'
import type { Blind, Compared, FromMonitor, LevelMatch, Listening, Probe, Treatment } from '../api/client'
import { theMonitor } from '../audio/monitor'
import { stripOf } from '../lib/intents'
import type { SessionStore } from './useSession'

type Meter = Extract<FromMonitor, { type: 'meter' }>
type Spectra = Extract<FromMonitor, { type: 'spectra' }>
type Gains = Extract<FromMonitor, { type: 'gains' }>

/** How the tracks are heard together in the Ensemble. */
export interface Together {
  /** Only these tracks and groups; none: all. */
  readonly heardIds: string[]
  /** What is compared: one move, all moves, or nothing. */
  readonly compares: NonNullable<Listening['together']>['compares']
  readonly entryId: string | null
  /** Whether what is compared is left out just now. */
  readonly without: boolean
  readonly matched: boolean
  readonly slices: Probe[]
}

/** What is heard at once in place of what is listened to: it without moves, in another treatment, or a reference. */
export type Beside = Pick<Compared, 'what'> &
  Partial<Pick<Compared, 'other' | 'reference_id'>> & { readonly heard: boolean }

const LATE_TOLD_MS = 5_000

/** A comparison that names neither another treatment, nor a reference, nor a move. */
const NOTHING_NAMED = { other: null, reference_id: null, entry_id: null, amount: 100, other_heard: false } as const

export type Play = ReturnType<typeof makePlay>

export function makePlay(session: SessionStore) {
  const { about, treatment, saved, pending, overlay, state, chosen } = session
  const playing = ref(false)
  const positionFrame = ref(0)
  const connection = ref<'unopened' | 'connected' | 'lost'>('unopened')
  const message = ref('')
  const alone = ref(true)
  const ledgerHeard = ref(true)
  const matched = ref(true)
  const dim = ref(false)
  /** How much sound is asked for ahead, learnt from each play for the next; a change need not wait for its end. */
  let queueMs = 60
  const offcuts = ref(false)
  /** Whether what stands for what is done later is heard. */
  const pressure = ref(false)
  /** Through what it is heard, for the ears only. */
  const through = shallowRef<Listening['through']>({ kind: 'nothing', curve: [] })
  const sliceEntryId = ref<string | null>(null)
  const probe = shallowRef<Probe | null>(null)
  /** Probes that stay while another one is moved. */
  const heldProbes = shallowRef<Probe[]>([])
  /** The pitch pipe's frequency while it sounds. */
  const pipeHz = ref<number | null>(null)
  /** What was drafted and is heard as if it were taken, while it is held. */
  const draftId = ref<string | null>(null)
  /** Gone round in place of the session's loop, while a row of the round is listened to; frames. */
  const ownLoop = shallowRef<readonly [number, number] | null>(null)
  /** Set while the Ensemble is on: then it is not one track's bench that is heard. */
  const together = shallowRef<Together | null>(null)
  /** The treatment that is rendered beside the one that is worked on, so that a switch is one crossfade. */
  const pair = shallowRef<readonly Treatment[]>([])
  const against = computed({
    get: () =>
      pair.value.includes(treatment.value) ? (pair.value.find((one) => one !== treatment.value) ?? null) : null,
    set: (letter: Treatment | null) => (pair.value = letter ? [treatment.value, letter] : []),
  })
  /** What is rendered beside, in place of another treatment, while somebody looks at it or holds its key. */
  const beside = shallowRef<Beside | null>(null)
  /** What is pressed in a blind check; what that is, only the sound process knows. */
  const blind = shallowRef<Blind | null>(null)
  /** Whether the sound process is measuring how loud what is compared is. */
  const measuring = ref(false)
  const meter = shallowRef<Meter | null>(null)
  const spectra = shallowRef<Spectra | null>(null)
  const gains = shallowRef<Gains | null>(null)
  /** What the sound process has measured for the level match; null until it has. */
  const match = shallowRef<LevelMatch | null>(null)

  const rate = computed(() => state.value.sample_rate_hz)
  const songFrames = computed(() =>
    Math.max(1, ...state.value.tracks.map((track) => track.start_frame + session.lengthOf(track.audio_id))),
  )

  /** The two treatments that are rendered side by side; they stay on their sides, whichever is heard. */
  const sides = computed<{ treatment: Treatment; compared: Compared | null }>(() => {
    const [now, other] = [treatment.value, against.value]
    if (beside.value) {
      const { heard: other_heard, ...compared } = beside.value
      return { treatment: now, compared: { ...NOTHING_NAMED, ...compared, other_heard } }
    }
    const isThere = state.value.treatments.some((one) => one.letter === other)
    if (!other || other === now || !isThere || !ledgerHeard.value) return { treatment: now, compared: null }
    const [first, second] = now < other ? [now, other] : [other, now]
    const compared = { ...NOTHING_NAMED, what: 'treatments', other: second, other_heard: now === second } as const
    return { treatment: first, compared }
  })

  const matchDb = computed(() => {
    const now = beside.value ? null : together.value
    const compared = now ? null : sides.value.compared
    if (compared && match.value && matched.value)
      return compared.other_heard ? match.value.match_before_db : match.value.match_after_db
    if (!match.value || !(now ? now.matched : matched.value)) return 0
    return (now ? !now.without : ledgerHeard.value) ? match.value.match_after_db : match.value.match_before_db
  })

  /** What is under the pointer, a move or an amount; after it is let go, until the edit is answered. */
  const preview = computed<Listening['preview']>(() => {
    const dragged = [...pending.value.flatMap((edit) => edit.intents), overlay.value].findLast(
      (one) =>
        (one?.do === 'set-move' || one?.do === 'set-ledger') && (one.treatment ?? treatment.value) === treatment.value,
    )
    const none = { entry_id: null, move: null, amount: null, treatment: treatment.value }
    if (dragged?.do === 'set-move') {
      const { strip_id, entry_id, move } = dragged
      return { ...none, strip_id, entry_id, move }
    }
    const amount = dragged?.do === 'set-ledger' ? dragged.fields.amount : null
    return dragged?.do === 'set-ledger' && amount != null ? { ...none, strip_id: dragged.strip_id, amount } : null
  })

  /** How the page listens; what is heard by that, the sound process decides. */
  const listening = computed<Listening>(() => {
    const now = beside.value ? null : together.value // side by side with something, the whole mix is heard
    const common = {
      treatment: treatment.value,
      compared: null,
      blind: blind.value,
      dim: dim.value,
      preview: preview.value,
      draft_id: draftId.value,
      loop: ownLoop.value as [number, number] | null,
      pressure: pressure.value,
      through: through.value,
      smoothing: smoothing.value,
    }
    const silent = { offcuts: false, slice_entry_id: null, probe: null, held_probes: [], pipe_hz: null }
    if (now) {
      return {
        ...common,
        ...silent,
        strip_id: null,
        alone: false,
        moves_heard: true,
        matched: now.matched,
        held_probes: now.slices,
        together: { heard_ids: now.heardIds, compares: now.compares, entry_id: now.entryId, without: now.without },
      }
    }
    return {
      ...common,
      ...sides.value,
      strip_id: chosen.value?.id ?? null,
      alone: alone.value && !together.value,
      moves_heard: ledgerHeard.value,
      matched: matched.value,
      offcuts: offcuts.value,
      slice_entry_id: sliceEntryId.value,
      probe: probe.value,
      held_probes: heldProbes.value,
      pipe_hz: pipeHz.value,
      together: null,
    }
  })
  const heard = computed(() => ({
    sessionId: session.id,
    revision: saved.value.revision,
    listening: listening.value,
  }))

  /** Whether sound came too late just now, so that there was a gap. */
  const late = ref(false)
  let gaps = 0
  let lateUntil: ReturnType<typeof setTimeout> | undefined
  function sayLate() {
    late.value = true
    clearTimeout(lateUntil)
    lateUntil = setTimeout(() => (late.value = false), LATE_TOLD_MS)
  }
  onScopeDispose(() => clearTimeout(lateUntil))

  const monitor = theMonitor(`ws://${location.hostname}:${about.value.monitor_port}/monitor`)
  monitor.hand({
    connected() {
      if (connection.value === 'lost') message.value = ''
      connection.value = 'connected'
      monitor.listen(heard.value)
    },
    lost() {
      connection.value = 'lost'
      playing.value = false
    },
    position(frame, underruns) {
      positionFrame.value = frame
      if (underruns > gaps) sayLate()
      gaps = underruns
    },
    said(said) {
      if (said.type === 'meter') {
        meter.value = playing.value ? said : null // one may still be under way after a stop
        queueMs = said.base_queue_ms
      } else if (said.type === 'spectra') spectra.value = said
      else if (said.type === 'gains') gains.value = playing.value ? said : null
      else if (said.type === 'match') {
        match.value = said.match ?? null
        measuring.value = said.measuring
      } else if (said.type === 'non-finite') {
        const name = stripOf(state.value, said.track_id)?.name ?? 'a track'
        message.value = `The moves of ${name} came to hold no valid numbers; they were reset, and it was silent then.`
      } else if (said.type === 'problem') {
        message.value = said.playing ? said.message : `Cannot play: ${said.message}`
        playing.value &&= said.playing
      } else if (said.type === 'ended') {
        playing.value = false
        positionFrame.value = 0
      }
    },
  })

  /** What is heard changes only when something in it did. */
  const heardKey = computed(() => JSON.stringify(heard.value))
  watch(heardKey, () => connection.value === 'connected' && monitor.listen(heard.value), { flush: 'sync' })

  watch(
    () =>
      [
        chosen.value?.id,
        alone.value,
        together.value?.compares,
        together.value?.entryId,
        sides.value.treatment,
        sides.value.compared?.what,
        sides.value.compared?.other,
        sides.value.compared?.reference_id,
      ].join(' '),
    () => (match.value = null),
    { flush: 'sync' },
  )
  watch(
    () => chosen.value?.id,
    () => {
      spectra.value = null
      gains.value = null
      sliceEntryId.value = null
      probe.value = null
      heldProbes.value = []
      pipeHz.value = null
    },
  )

  /** Open the sound device; must follow a gesture of the user. */
  async function open() {
    await monitor.open(rate.value)
    await until(() => connection.value !== 'unopened')
  }

  async function play(fromFrame?: number) {
    await open()
    if (connection.value !== 'connected') return
    message.value = ''
    const inLoop = ownLoop.value?.[0] ?? state.value.loop_start_frame ?? null
    let from = fromFrame ?? positionFrame.value
    const loopEnd = ownLoop.value?.[1] ?? state.value.loop_end_frame ?? 0
    if (fromFrame === undefined && inLoop !== null && (from < inLoop || from >= loopEnd)) from = inLoop
    if (from >= songFrames.value) from = 0
    positionFrame.value = from
    playing.value = true
    monitor.play(from, heard.value, queueMs)
  }

  function stop() {
    playing.value = false
    meter.value = null
    spectra.value = null
    gains.value = null
    monitor.stop()
  }

  function seek(frame: number) {
    const at = Math.max(0, Math.min(Math.round(frame), songFrames.value - 1))
    positionFrame.value = at
    if (playing.value) void play(at)
  }

  onScopeDispose(stop)

  return {
    playing,
    positionFrame,
    connection,
    message,
    alone,
    ledgerHeard,
    matched,
    matchDb,
    dim,
    offcuts,
    pressure,
    through,
    sliceEntryId,
    probe,
    heldProbes,
    pipeHz,
    draftId,
    ownLoop,
    together,
    against,
    beside,
    sides,
    blind,
    measuring,
    late,
    meter,
    spectra,
    gains,
    match,
    listening,
    heard,
    rate,
    songFrames,
    play,
    stop,
    toggle: () => (playing.value ? stop() : void play()),
    seek,
    monitor: () => monitor,
    open,
  }
}

const until = (condition: () => boolean) =>
  new Promise<void>((resolve) => {
    const check = () => (condition() ? resolve() : void setTimeout(check, 10))
    check()
  })
