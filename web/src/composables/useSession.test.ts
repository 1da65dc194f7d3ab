import { beforeEach, describe, expect, it, vi } from 'vitest'
import type { SessionState } from '../api/client'

const TRACK = { id: 't', name: 'Drum', gain_db: 0, ledger: [], pins: [] }
const session = (revision: number, gain_db = 0) => ({ id: 's', name: 'S', revision, tracks: [{ ...TRACK, gain_db }], groups: [], master: { id: 'm' } }) as unknown as SessionState

type Answer = { status: number; body: unknown } | 'no connection'
let answers: Answer[]
let asked: { url: string; body: { base_revision: number; steps?: { fields: { gain_db: number } }[] } | null }[]

class QuietSocket {
  onopen: (() => void) | null = null
  onmessage: unknown
  onclose: unknown
  close() {}
}

beforeEach(() => {
  answers = []
  asked = []
  vi.resetModules()
  vi.useFakeTimers()
  vi.stubGlobal('location', { host: 'here' })
  vi.stubGlobal('WebSocket', QuietSocket)
  vi.stubGlobal('fetch', async (url: string, init: { body?: string }) => {
    asked.push({ url, body: init.body ? JSON.parse(init.body) : null })
    const answer = answers.shift() ?? 'no connection'
    if (answer === 'no connection') throw new TypeError('failed to fetch')
    return { ok: answer.status < 300, status: answer.status, json: async () => answer.body }
  })
})

async function opened() {
  const { useSession } = await import('./useSession')
  answers = [{ status: 200, body: { monitor_port: 1 } }, { status: 200, body: session(5) }]
  const used = useSession()
  await used.open('s')
  asked = []
  return used
}

const step = (gain_db: number) => [{ do: 'edit-track' as const, track_id: 't', fields: { gain_db } }] as never

describe('edits', () => {
  it('are shown at once and saved one after the other, each on the revision before', async () => {
    const { edit, state, saveState } = await opened()
    answers = [6, 7, 8].map((revision) => ({ status: 200, body: session(revision, -(revision - 5)) }))
    const all = [edit('a', step(-1)), edit('b', step(-2)), edit('c', step(-3))]
    expect(state.value?.tracks[0]?.gain_db).toBe(-3)
    expect(saveState.value).toBe('saving')
    await Promise.all(all)
    expect(asked.map(({ body }) => body?.base_revision)).toEqual([5, 6, 7])
    expect(state.value?.revision).toBe(8)
    expect(saveState.value).toBe('saved')
  })

  it('wait for a server that is away, and go in when it is back', async () => {
    const { edit, state, saveState } = await opened()
    answers = ['no connection', { status: 503, body: { code: 'no-database', message: 'gone' } }, { status: 200, body: session(6, -4) }]
    const saved = edit('a', step(-4))
    await vi.advanceTimersByTimeAsync(10)
    expect(saveState.value).toBe('waiting')
    expect(state.value?.tracks[0]?.gain_db).toBe(-4)
    await vi.advanceTimersByTimeAsync(5000)
    await saved
    expect(asked).toHaveLength(3)
    expect(saveState.value).toBe('saved')
  })

  it('take "stale" after a lost answer for what it is: the edit went in', async () => {
    const { edit, state, saveState, trouble } = await opened()
    answers = ['no connection', { status: 409, body: { code: 'stale-state', message: 'moved on' } }, { status: 200, body: session(6, -4) }]
    const saved = edit('a', step(-4))
    await vi.advanceTimersByTimeAsync(5000)
    await saved
    expect([saveState.value, trouble.value, state.value?.revision]).toEqual(['saved', '', 6])
  })

  it('that are refused are told, and the saved state is shown again', async () => {
    const { edit, state, saveState, trouble } = await opened()
    answers = [{ status: 409, body: { code: 'stale-state', message: 'another page changed it' } }, { status: 200, body: session(9, 2) }]
    await edit('a', step(-4))
    expect([saveState.value, trouble.value]).toEqual(['failed', 'another page changed it'])
    expect(state.value?.tracks[0]?.gain_db).toBe(2)
    answers = [{ status: 200, body: session(10, 0) }]
    await edit('b', step(0))
    expect(asked.at(-1)?.body?.base_revision).toBe(9)
    expect(saveState.value).toBe('saved')
  })
})
