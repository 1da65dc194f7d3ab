/** Files on their way into the session: one after the other, each with how far it is and what became of it. */
import { ref } from 'vue'
import { upload, type SessionState, type Track, type TrackReplaced } from '../api/client'
import { formatTime } from '../lib/figures'
import { setTrack } from '../lib/intents'
import { sectionsOf, type Incoming } from '../lib/incoming'
import { useStaged } from './useStaged'
import { useSession } from './work'

export function useIncoming() {
  const session = useSession()
  const incoming = ref<Incoming[]>([])
  const staging = useStaged(incoming)

  /** Each file becomes a track, or as many as it holds. */
  async function add(files: readonly File[]) {
    const arrived = await staging.send(files)
    for (const { row, staged } of arrived)
      if (staged.kind === 'bundle') staging.refuse(row, 'a bundle is a session of its own: drop it on the start page')
    const sounds = arrived.filter(({ staged }) => staged.kind === 'sound')
    if (!sounds.length) return
    try {
      const how = await staging.askedAbout(sounds)
      await staging.takeIn(session.id, sounds, how, (row, next) => {
        const before = new Set(session.known.value.tracks.map((track) => track.id))
        noteOf(
          row,
          next.tracks.filter((track) => !before.has(track.id)),
          next,
        )
        session.take(next)
      })
    } catch (error) {
      for (const { row } of sounds) if (row.state === 'waiting') staging.refuse(row, error)
    }
  }

  /** What was read of the file itself: what it is, when it starts, what is marked in it. */
  function noteOf(row: Incoming, added: Track[], now: SessionState) {
    const [track] = added
    if (!track) return
    if (added.length > 1) row.reason = `${added.length} tracks`
    else {
      const notes = track.role === 'other' ? [] : [`taken for ${track.role} by its name`]
      if (now.audio[track.audio_id]?.time_reference != null && track.start_frame > 0)
        notes.push(`placed at ${formatTime(track.start_frame / now.sample_rate_hz)} by the time it tells`)
      row.reason = notes.join('; ')
    }
    const file = now.audio[track.audio_id]
    if (file?.markers?.length) row.marked = { audioId: file.id, trackId: track.id, n: file.markers.length }
  }

  /** From each marker of a file to the next one, a section of its name. */
  function makeSections(row: Incoming) {
    const state = session.known.value
    const track = state.tracks.find((one) => one.id === row.marked?.trackId)
    const file = track && state.audio[track.audio_id]
    if (!track || !file) return
    const intents = sectionsOf(track, file, state.sample_rate_hz)
    delete row.marked
    return session.edit(`Sections from the markers of ${row.name}`.slice(0, 200), intents)
  }

  /** The sound of a track is another one from now on; its ledger stays, and what changed is told. */
  async function replace(track: Track, file: File) {
    incoming.value.push({ name: file.name, part: 0, state: 'sending', reason: '' })
    const row = incoming.value.at(-1) as Incoming
    try {
      const { session: next, changed } = await upload<TrackReplaced>(
        `/sessions/${session.id}/tracks/${track.id}/audio`,
        file,
        {},
        (part) => {
          row.part = part
          if (part >= 1) row.state = 'reading'
        },
      )
      row.state = 'in'
      row.reason = `in the place of the other one of ${track.name}${changed ? `: ${changed.sentence}` : ''}`
      if (changed?.later_frames) row.later = { trackId: track.id, frames: changed.later_frames }
      session.take(next)
    } catch (error) {
      staging.refuse(row, error)
    }
  }

  /** Move a track so that what both files hold is heard when it was. */
  function lineUp(row: Incoming) {
    const track = session.known.value.tracks.find((one) => one.id === row.later?.trackId)
    if (!track || !row.later) return
    const start_frame = track.start_frame - row.later.frames
    if (start_frame < 0) {
      row.reason += '; it cannot begin before its session: cut its beginning elsewhere'
      delete row.later
      return
    }
    delete row.later
    return session.edit(`Line ${track.name} up`.slice(0, 200), [setTrack(track, { start_frame })])
  }

  const clearDone = () =>
    (incoming.value = incoming.value.filter((row) => row.state !== 'in' && row.state !== 'refused'))

  return {
    incoming,
    add,
    replace,
    lineUp,
    clearDone,
    makeSections,
    question: staging.question,
    answer: staging.answer,
  }
}
