/** Files on their way in: sent and looked at first, asked about once where there is a choice, then taken in. */
import { ref, type Ref } from 'vue'
import { api, upload, type SessionState, type StagedFile, type StagedPair } from '../api/client'
import { pairSays, type Incoming, type IncomingAnswer, type IncomingQuestion } from '../lib/incoming'

/** A file that has arrived, and its row in the list. */
export interface Arrived {
  row: Incoming
  staged: StagedFile
}

export function useStaged(incoming: Ref<Incoming[]>) {
  const question = ref<IncomingQuestion | null>(null)
  let answered: (answer: IncomingAnswer) => void = () => undefined

  const rowOf = (name: string, state: Incoming['state'] = 'waiting'): Incoming => {
    incoming.value.push({ name, part: 0, state, reason: '' })
    return incoming.value.at(-1) as Incoming
  }

  function refuse(row: Incoming, error: unknown) {
    row.state = 'refused'
    row.reason = error instanceof Error ? error.message : String(error)
  }

  /** Send files one by one; a ZIP gives a row for each file in it. What can be no track is named. */
  async function send(files: readonly File[]): Promise<Arrived[]> {
    const rows = files.map((file) => ({ file, row: rowOf(file.name) }))
    const arrived: Arrived[] = []
    for (const { file, row } of rows) arrived.push(...(await sendOne(file, row)))
    for (const { row, staged } of arrived) if (staged.kind === 'refused') refuse(row, staged.reason)
    return arrived
  }

  async function sendOne(file: File, row: Incoming): Promise<Arrived[]> {
    row.state = 'sending'
    try {
      const found = await upload<StagedFile[]>('/staged', file, {}, (part) => (row.part = part))
      const [only] = found
      row.state = 'waiting'
      if (found.length === 1 && only?.name === file.name) return [{ row, staged: only }]
      row.state = 'in'
      row.reason = `${found.length} ${found.length === 1 ? 'file' : 'files'} in it`
      return found.map((staged) => ({ row: rowOf(staged.name), staged }))
    } catch (error) {
      refuse(row, error)
      return []
    }
  }

  /** What is to become of many channels, and of lefts and rights: asked once for all, and only where there are some. */
  async function askedAbout(sounds: readonly Arrived[]): Promise<IncomingAnswer> {
    const many = sounds.filter(({ staged }) => (staged.n_channels ?? 1) > 2)
    const pairs = await api.pairsOf(sounds.map(({ staged }) => staged.id))
    if (!many.length && !pairs.length) return { channels: null, join: false, pairs: [] }
    question.value = { many: many.map(({ row }) => row.name), pairs: pairs.map(pairSays) }
    const answer = await new Promise<IncomingAnswer>((resolve) => (answered = resolve))
    question.value = null
    return { ...answer, pairs: answer.join ? pairs : [] }
  }

  const answer = (given: Pick<IncomingAnswer, 'channels' | 'join'>) => answered({ ...given, pairs: [] })

  /** Take sounds in, one after the other; what cannot be is named, and holds nothing up. */
  async function takeIn(
    sessionId: string,
    sounds: readonly Arrived[],
    how: IncomingAnswer,
    taken: (row: Incoming, next: SessionState) => void,
  ) {
    const byId = new Map(sounds.map((one) => [one.staged.id, one]))
    const others = new Map<string, StagedPair>(how.pairs.map((pair) => [pair.left, pair]))
    const rights = new Set(how.pairs.map((pair) => pair.right))
    for (const { row, staged } of sounds) {
      if (rights.has(staged.id)) continue
      const pair = others.get(staged.id)
      const other = pair && byId.get(pair.right)
      const rows = other ? [row, other.row] : [row]
      for (const one of rows) one.state = 'reading'
      try {
        const next = await api.takeStaged(sessionId, pair ? [pair.left, pair.right] : [staged.id], how.channels)
        for (const one of rows) one.state = 'in'
        taken(row, next)
        if (other) other.row.reason = `joined with ${row.name}`
      } catch (error) {
        for (const one of rows) refuse(one, error)
      }
    }
  }

  return { question, send, askedAbout, answer, takeIn, refuse }
}
