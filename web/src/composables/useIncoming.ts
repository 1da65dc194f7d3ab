/** Files on their way into the session: one after the other, each with how far it is and what became of it. */
import { ref } from 'vue'
import { upload, type SessionState, type Track } from '../api/client'
import { formatTime } from '../lib/figures'
import { sectionsOf, type Incoming } from '../lib/incoming'
import { useSession } from './work'

export function useIncoming() {
  const session = useSession()
  const incoming = ref<Incoming[]>([])

  async function bring(files: FileList | null | undefined, pathOf: () => string) {
    const rows = [...(files ?? [])].map((file) => ({
      file,
      row: ref<Incoming>({ name: file.name, part: 0, state: 'waiting', reason: '' }),
    }))
    incoming.value = [...rows.map(({ row }) => row.value), ...incoming.value]
    for (const { file, row } of rows) await bringOne(file, row.value, pathOf())
  }

  async function bringOne(file: File, row: Incoming, path: string) {
    row.state = 'sending'
    try {
      const next = await upload(path, file, {}, (part) => {
        row.part = part
        if (part >= 1) row.state = 'reading'
      })
      row.state = 'in'
      const added = path === addPath() ? next.tracks.at(-1) : null
      if (added) told(row, added, next)
      session.take(next)
    } catch (error) {
      row.state = 'refused'
      row.reason = (error as Error).message
    }
  }

  /** What was read of the file itself: what it is, when it starts, what is marked in it. */
  function told(row: Incoming, added: Track, now: SessionState) {
    const said = added.role === 'other' ? [] : [`taken for ${added.role} by its name`]
    const file = now.audio[added.audio_id]
    if (file?.time_reference != null && added.start_frame > 0)
      said.push(`placed at ${formatTime(added.start_frame / now.sample_rate_hz)} by the time it tells`)
    row.reason = said.join('; ')
    if (file?.markers?.length) row.marked = { audioId: file.id, trackId: added.id, n: file.markers.length }
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

  const addPath = () => `/sessions/${session.id}/tracks`

  /** Each file becomes a track. */
  const add = (files?: FileList | null) => bring(files, addPath)

  /** The sound of a track is another one from now on; its ledger stays. */
  const replace = (trackId: string, files?: FileList | null) =>
    bring(files, () => `/sessions/${session.id}/tracks/${trackId}/audio`)

  const clearDone = () =>
    (incoming.value = incoming.value.filter((row) => row.state !== 'in' && row.state !== 'refused'))

  return { incoming, add, replace, clearDone, makeSections }
}
