/** Files on their way into the session: one after the other, each with how far it is and what became of it. */
import { ref } from 'vue'
import { upload } from '../api/client'
import type { Incoming } from '../lib/incoming'
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
      if (added && added.role !== 'other') row.reason = `taken for ${added.role} by its name`
      session.take(next)
    } catch (error) {
      row.state = 'refused'
      row.reason = (error as Error).message
    }
  }

  const addPath = () => `/sessions/${session.id}/tracks`

  /** Each file becomes a track. */
  const add = (files?: FileList | null) => bring(files, addPath)

  /** The sound of a track is another one from now on; its ledger stays. */
  const replace = (trackId: string, files?: FileList | null) =>
    bring(files, () => `/sessions/${session.id}/tracks/${trackId}/audio`)

  const clearDone = () =>
    (incoming.value = incoming.value.filter((row) => row.state !== 'in' && row.state !== 'refused'))

  return { incoming, add, replace, clearDone }
}
