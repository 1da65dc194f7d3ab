import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { effectScope, nextTick, ref, type EffectScope } from 'vue'
import { queries, useRead } from './reads'

let scope: EffectScope
let asked: { question: number; answer: (value: string) => void; fail: () => void }[]

beforeEach(() => {
  vi.useFakeTimers()
  scope = effectScope()
  asked = []
  queries.clear()
})
afterEach(() => {
  scope.stop()
  vi.useRealTimers()
})

const ask = (question: number) =>
  new Promise<string>((answer, reject) => asked.push({ question, answer, fail: () => reject(new Error('away')) }))

/** Let promises and watchers run that are due. */
async function settled() {
  for (let turn = 0; turn < 4; turn++) {
    await nextTick()
    await vi.advanceTimersByTimeAsync(1)
  }
}

function opened() {
  const question = ref<number | null>(1)
  const subject = ref('a track')
  const read = scope.run(() =>
    useRead(
      'test',
      () => question.value,
      ask,
      () => subject.value,
    ),
  )
  if (!read) throw new Error('the scope is closed')
  return { question, subject, answer: read.answer }
}

describe('what the server computes', () => {
  it('is asked for one at a time, and of those that came meanwhile only the newest', async () => {
    const { question, answer } = opened()
    for (const next of [2, 3, 4]) {
      question.value = next
      await settled()
    }
    expect(asked.map((one) => one.question)).toEqual([1])
    asked[0]?.answer('of 1')
    await settled()
    expect(answer.value).toBe('of 1') // late, but of the same thing: better than nothing
    expect(asked.map((one) => one.question)).toEqual([1, 4])
    asked[1]?.answer('of 4')
    await settled()
    expect(answer.value).toBe('of 4')
    expect(asked).toHaveLength(2)
  })

  it('is not shown for something else than it was asked for', async () => {
    const { question, subject, answer } = opened()
    subject.value = 'another track'
    question.value = 2
    await settled()
    asked[0]?.answer('of the track before')
    await settled()
    expect(answer.value).toBeNull()
    asked[1]?.answer('of this one')
    await settled()
    expect(answer.value).toBe('of this one')
  })

  it('is asked for again a little later when no answer came, and stays shown meanwhile', async () => {
    const { question, answer } = opened()
    asked[0]?.answer('first')
    await settled()
    question.value = 2
    await settled()
    asked[1]?.fail()
    await settled()
    expect(answer.value).toBe('first')
    expect(asked).toHaveLength(2)
    await vi.advanceTimersByTimeAsync(2_000)
    expect(asked.map((one) => one.question)).toEqual([1, 2, 2])
    asked[2]?.answer('second')
    await settled()
    expect(answer.value).toBe('second')
  })

  it('is not asked for while there is no question', async () => {
    const { question, answer } = opened()
    asked[0]?.answer('first')
    question.value = null
    await settled()
    await vi.advanceTimersByTimeAsync(10_000)
    expect(asked).toHaveLength(1)
    expect(answer.value).toBe('first')
  })
})
