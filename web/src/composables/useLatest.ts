/** A value that the server computes from something that changes quickly: one question under way, the newest next. */
import { shallowRef, watch, type ShallowRef } from 'vue'

const AGAIN_MS = 2000

/** `subject` says what the answer is of: an answer about something else is not shown. */
export function useLatest<Q, A>(question: () => Q | null, ask: (question: Q) => Promise<A>, subject: () => unknown): ShallowRef<A | null> {
  const answer = shallowRef<A | null>(null)
  let asking = false
  let lastKey = ''

  async function refresh() {
    if (asking) return
    asking = true
    for (;;) {
      const next = question()
      const key = JSON.stringify(next)
      if (key === lastKey) break
      lastKey = key
      const of = subject()
      const got = next === null ? null : await ask(next).catch(() => null)
      if (of === subject()) answer.value = got ?? answer.value
      if (got === null && next !== null) {
        // The server may be starting again: ask once more, unless something newer is asked before.
        lastKey = ''
        setTimeout(() => void refresh(), AGAIN_MS)
        break
      }
    }
    asking = false
  }

  watch(subject, () => (answer.value = null))
  watch(question, () => void refresh(), { immediate: true })
  return answer
}
