/** A value that the server computes from something that changes quickly: one question under way, the newest next. */
import { shallowRef, watch, type ShallowRef } from 'vue'

export function useLatest<Q, A>(question: () => Q | null, ask: (question: Q) => Promise<A>): ShallowRef<A | null> {
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
      const got = next === null ? null : await ask(next).catch(() => null)
      if (got !== null || next === null) answer.value = got
    }
    asking = false
  }

  watch(question, () => void refresh(), { immediate: true, deep: false })
  return answer
}
