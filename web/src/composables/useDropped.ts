/** Files, folders and ZIPs dropped on the start page: looked at first, then a session is made of what is sound. */
import { ref } from 'vue'
import { api, type SessionState } from '../api/client'
import type { Dropped } from '../lib/dropped'
import type { Incoming } from '../lib/incoming'
import { useStaged, type Arrived } from './useStaged'

export function useDropped(opened: (session: SessionState) => unknown) {
  const incoming = ref<Incoming[]>([])
  const busy = ref(false)
  const problem = ref('')
  const staging = useStaged(incoming)

  async function bring({ name, files }: Dropped) {
    if (busy.value || !files.length) return
    busy.value = true
    problem.value = ''
    incoming.value = []
    try {
      const arrived = await staging.send(files)
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

  async function sessionOf(name: string, sounds: Arrived[]) {
    const how = await staging.askedAbout(sounds)
    let session = await api.createSessionOf(
      name.slice(0, 120) || 'New session',
      sounds.map(({ staged }) => staged.id),
    )
    await staging.takeIn(session.id, sounds, how, (_, next) => (session = next))
    return session
  }

  return { incoming, busy, problem, bring, question: staging.question, answer: staging.answer }
}
