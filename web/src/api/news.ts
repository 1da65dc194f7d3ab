/** The one stream by which the server tells of a session: changes, what was computed, what was listened to. */
import { newId } from '../lib/moves'
import type { components } from './newsSchema'

type Schemas = components['schemas']
type News = Schemas['ToPage']
type Said = Schemas['FromPage']
export type ListenedTo = Schemas['ListenedTo']

const RETRY_MS = 1000
/** Products that ended before anybody here waited for them: the answer to a question may be later than its news. */
const REMEMBERED = 400

export type NewsStream = ReturnType<typeof makeNews>

export function makeNews(sessionId: string) {
  /** Under this name the server knows what this page waits for. */
  const pageId = newId()
  const listeners = new Set<(news: News) => void>()
  const waiting = new Map<string, Set<() => void>>()
  const endedBefore = new Set<string>()
  let lookedAt: string | null = null
  let socket: WebSocket | null = null
  let left = false

  function open() {
    socket = new WebSocket(`ws://${location.host}/api/sessions/${sessionId}/news?page=${pageId}`)
    socket.onmessage = (event: MessageEvent<string>) => hear(JSON.parse(event.data) as News)
    socket.onopen = () => {
      if (lookedAt) say({ do: 'look-at', strip_id: lookedAt })
      hear({ about: 'missed' })
    }
    socket.onclose = () => {
      if (!left) setTimeout(() => !left && open(), RETRY_MS)
    }
  }

  function hear(news: News) {
    if (news.about === 'missed') for (const id of [...waiting.keys()]) wake(id)
    else if (news.about === 'product' && news.status !== 'running' && news.status !== 'waiting') {
      if (!wake(news.id)) remember(news.id)
    }
    listeners.forEach((listener) => listener(news))
  }

  function remember(id: string) {
    endedBefore.add(id)
    const oldest = endedBefore.values().next().value
    if (endedBefore.size > REMEMBERED && oldest !== undefined) endedBefore.delete(oldest)
  }

  function wake(id: string): boolean {
    const own = waiting.get(id)
    waiting.delete(id)
    own?.forEach((done) => done())
    return own !== undefined
  }

  /** Resolves when a product has ended, however; where nobody waits any more, the server gives it up. */
  function ended(id: string, signal?: AbortSignal): Promise<void> {
    if (endedBefore.delete(id)) return Promise.resolve()
    return new Promise((resolve, reject) => {
      const own = waiting.get(id) ?? new Set()
      waiting.set(id, own.add(resolve))
      signal?.addEventListener('abort', () => {
        own.delete(resolve)
        if (!own.size && waiting.get(id) === own) {
          waiting.delete(id)
          say({ do: 'give-up', product_ids: [id] })
        }
        reject(signal.reason as Error)
      })
    })
  }

  /** What cannot be said just now need not be: without the stream, the server takes it that the page has left. */
  function say(message: Said) {
    if (socket?.readyState === WebSocket.OPEN) socket.send(JSON.stringify(message))
  }

  open()
  return {
    pageId,
    ended,
    on(listener: (news: News) => void) {
      listeners.add(listener)
      return () => listeners.delete(listener)
    },
    lookAt(stripId: string | null) {
      lookedAt = stripId
      say({ do: 'look-at', strip_id: stripId })
    },
    close() {
      left = true
      socket?.close()
    },
  }
}
