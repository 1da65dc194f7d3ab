/** Files, folders and ZIPs dropped on the start page: looked at first, then a session is made of what is sound. */
import { ref } from 'vue'
import { api, upload, type SessionState, type StagedFile } from '../api/client'
import type { Dropped } from '../lib/dropped'
import type { Incoming } from '../lib/incoming'

export function useDropped(opened: (session: SessionState) => unknown) {
  const incoming = ref<Incoming[]>([])
  const busy = ref(false)
  const problem = ref('')

  const rowOf = (name: string, state: Incoming['state'] = 'waiting', reason = ''): Incoming => {
    incoming.value.push({ name, part: 0, state, reason })
    return incoming.value.at(-1) as Incoming
  }

  /** Send one file; a ZIP gives a row for each file in it. */
  async function send(file: File): Promise<{ row: Incoming; staged: StagedFile }[]> {
    const row = rowOf(file.name, 'sending')
    try {
      const found = await upload<StagedFile[]>('/staged', file, {}, (part) => (row.part = part))
      const [only] = found
      if (found.length !== 1 || !only || only.name !== file.name) {
        row.state = 'in'
        row.reason = `${found.length} ${found.length === 1 ? 'file' : 'files'} in it`
        return found.map((staged) => ({ row: rowOf(staged.name), staged }))
      }
      row.state = 'waiting'
      return [{ row, staged: only }]
    } catch (error) {
      refuse(row, error)
      return []
    }
  }
  function refuse(row: Incoming, error: unknown) {
    row.state = 'refused'
    row.reason = error instanceof Error ? error.message : String(error)
  }

  async function bring({ name, files }: Dropped) {
    if (busy.value || !files.length) return
    busy.value = true
    problem.value = ''
    incoming.value = []
    try {
      const arrived = []
      for (const file of files) arrived.push(...(await send(file)))
      for (const { row, staged } of arrived) if (staged.kind === 'refused') refuse(row, staged.reason)
      const bundle = arrived.find(({ staged }) => staged.kind === 'bundle')
      if (bundle) {
        bundle.row.state = 'reading'
        await opened(await api.openStagedBundle(bundle.staged.id))
        return
      }
      const sounds = arrived.filter(({ staged }) => staged.kind === 'sound')
      if (sounds.length) await opened(await sessionOf(name, sounds))
      else problem.value = 'Nothing of this can be a track.'
    } catch (error) {
      problem.value = error instanceof Error ? error.message : String(error)
    } finally {
      busy.value = false
    }
  }

  /** A session with each file as a track; what cannot be taken in is named, and holds nothing up. */
  async function sessionOf(name: string, sounds: { row: Incoming; staged: StagedFile }[]) {
    let session = await api.createSessionOf(
      name.slice(0, 120) || 'New session',
      sounds.map(({ staged }) => staged.id),
    )
    for (const { row, staged } of sounds) {
      row.state = 'reading'
      try {
        session = await api.takeStaged(session.id, staged.id)
        row.state = 'in'
      } catch (error) {
        refuse(row, error)
      }
    }
    return session
  }

  return { incoming, busy, problem, bring }
}
