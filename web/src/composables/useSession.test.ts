import { beforeEach, describe, expect, it, vi } from 'vitest'
import { effectScope } from 'vue'
import type { About, Edit, Move, SessionState, StepInHistory, Track } from '../api/client'
import { addMove, asTreated, inTreatment, overlaid, setMove, setTrack } from '../lib/intents'
import type { Bench } from './useBench'
import { makeEdits } from './useEdits'
import type { Play } from './usePlay'
import { makeSession } from './useSession'

const BELL = { kind: 'bell', hz: 431, gain_db: -6 } as Move
const ENTRY = { id: 'e', move: BELL, reason: '', evidence: null, clash: null }
const TRACK = { kind: 'track', id: 't', name: 'Drum', gain_db: 0, pan: 0, ledger: [ENTRY], pins: [], twin_id: null }
const session = (revision: number, gain_db = 0) =>
  ({
    id: 's',
    revision,
    undo: { edit_id: `edit ${revision}`, label: '' },
    tracks: [{ ...TRACK, gain_db }],
    treatment: 'A',
    treatments: [{ letter: 'A', name: '' }],
    groups: [],
    master: { kind: 'group', id: 'm', ledger: [] },
    audio: {},
  }) as unknown as SessionState
const edited = (revision: number, gain_db = 0) => ({
  status: 200,
  body: { edit_id: 'x', revision, session: session(revision, gain_db) },
})

type Answer = { status: number; body: unknown } | 'no connection'
let answers: Answer[]
let asked: { url: string; body: Edit | null }[]
let socket: QuietSocket

class QuietSocket {
  static readonly OPEN = 1
  readyState = 1
  said: unknown[] = []
  onopen: (() => void) | null = null
  onmessage: ((event: { data: string }) => void) | null = null
  onclose: unknown
  constructor() {
    socket = this // eslint-disable-line @typescript-eslint/no-this-alias
  }
  send(message: string) {
    this.said.push(JSON.parse(message))
  }
  close() {
    // Nothing was opened.
  }
}

beforeEach(() => {
  answers = []
  asked = []
  vi.useFakeTimers()
  const kept = new Map<string, string>()
  vi.stubGlobal('sessionStorage', {
    getItem: (name: string) => kept.get(name) ?? null,
    setItem: (name: string, value: string) => void kept.set(name, value),
  })
  vi.stubGlobal('location', { host: 'here' })
  vi.stubGlobal('WebSocket', QuietSocket)
  vi.stubGlobal('fetch', async (url: string, init: { body?: string }) => {
    asked.push({ url, body: init.body ? JSON.parse(init.body) : null })
    const answer = answers.shift() ?? 'no connection'
    if (answer === 'no connection') throw new TypeError('failed to fetch')
    return { ok: answer.status < 300, status: answer.status, json: async () => answer.body }
  })
})

function opened() {
  const store = effectScope().run(() => makeSession({} as About, session(5)))
  if (!store) throw new Error('the scope is closed')
  return store
}

const gain = (store: ReturnType<typeof opened>, gain_db: number) => [
  setTrack(store.known.value.tracks[0] as Track, { gain_db }),
]

describe('edits', () => {
  it('are shown as they were set and saved in turn, each decided on what the one before has set', async () => {
    const store = opened()
    answers = [edited(6, -1), edited(7, -2)]
    const all = [store.edit('a', gain(store, -1)), store.edit('b', gain(store, -2))]
    expect([store.state.value.tracks[0]?.gain_db, store.saved.value.tracks[0]?.gain_db]).toEqual([-2, 0])
    expect(store.saveState.value).toBe('saving')
    await Promise.all(all)
    expect(asked.map(({ body }) => body?.intents[0])).toMatchObject([
      { seen: { gain_db: 0 } },
      { seen: { gain_db: -1 } },
    ])
    expect([store.saved.value.revision, store.pending.value.length, store.saveState.value]).toEqual([7, 0, 'saved'])
  })

  it('are never made from an overlay: what is dragged or drafted is shown, and no edit takes it along', async () => {
    const store = opened()
    const strip = store.knownChosen() as Track
    store.overlay.value = setMove(strip, 'e', { ...BELL, hz: 999 } as Move)
    expect(store.state.value.tracks[0]?.ledger[0]?.move).toMatchObject({ hz: 999 })
    expect(store.knownChosen()?.ledger[0]?.move).toMatchObject({ hz: 431 })
    answers = [edited(6)]
    await store.edit('cut', [addMove(strip, { ...ENTRY, id: 'f' })])
    expect(JSON.stringify(asked)).not.toContain('"hz":999')
    expect(store.state.value.tracks[0]?.ledger[0]?.move).toMatchObject({ hz: 431 })
  })

  it('wait for a server that is away, and go in once, under the same id, when it is back', async () => {
    const store = opened()
    answers = ['no connection', { status: 503, body: { code: 'no-database', message: 'gone' } }, edited(6, -4)]
    const saved = store.edit('a', gain(store, -4))
    await vi.advanceTimersByTimeAsync(10)
    expect([store.saveState.value, store.state.value.tracks[0]?.gain_db]).toEqual(['waiting', -4])
    await vi.advanceTimersByTimeAsync(5000)
    await saved
    expect(asked).toHaveLength(3)
    expect(new Set(asked.map(({ body }) => body?.id)).size).toBe(1)
    expect(store.saveState.value).toBe('saved')
  })

  it('that are refused after a lost answer are told: nobody takes a refusal for success', async () => {
    const store = opened()
    const refused = { status: 409, body: { code: 'conflict', message: 'another page changed it' } }
    answers = [
      { status: 503, body: { code: 'no-database', message: 'gone' } },
      refused,
      { status: 200, body: session(9, 2) },
    ]
    const saved = store.edit('a', gain(store, -4))
    await vi.advanceTimersByTimeAsync(5000)
    expect(await saved).toBe(false)
    expect([store.saveState.value, store.trouble.value]).toEqual(['failed', 'another page changed it'])
    expect([store.state.value.tracks[0]?.gain_db, store.state.value.revision]).toEqual([2, 9])
    answers = [edited(10)]
    await store.edit('b', gain(store, 0))
    expect(asked.at(-1)?.body?.intents[0]).toMatchObject({ seen: { gain_db: 2 } })
    expect(store.saveState.value).toBe('saved')
  })

  it('are taken back by name: of those on their way the last, else the one that was seen to be last', async () => {
    const store = opened()
    answers = [edited(6, -1), edited(7), edited(8)]
    void store.edit('a', gain(store, -1))
    await store.undo()
    expect((asked[1]?.body as unknown as StepInHistory).of).toBe(asked[0]?.body?.id)
    await store.undo()
    expect((asked[2]?.body as unknown as StepInHistory).of).toBe('edit 7')
  })
})

describe('what an answer brings late', () => {
  it('is set on what a step back on its way leaves, and on its own strip, whichever is looked at by then', async () => {
    const store = opened()
    const edits = effectScope().run(() => makeEdits(store, {} as Play, {} as Bench))
    store.chosenId.value = 'm'
    answers = [edited(6, -3), edited(7, -1)]
    void store.undo()
    const before: (number | undefined)[] = []
    await edits?.onStrip('late', (strip) => (before.push((strip as Track).gain_db), gain(store, -1)), 't')
    expect(before).toEqual([-3])
    expect(asked[1]?.body?.intents[0]).toMatchObject({ seen: { gain_db: -3 } })
    expect(store.saveState.value).toBe('saved')
  })
})

describe('news of other pages', () => {
  it('is read anew, and an answer that comes late never takes its place', async () => {
    const store = opened()
    answers = [{ status: 200, body: session(8, -8) }]
    socket.onmessage?.({ data: '{"about": "revision", "revision": 8}' })
    await vi.advanceTimersByTimeAsync(10)
    expect(store.state.value.tracks[0]?.gain_db).toBe(-8)
    socket.onmessage?.({ data: '{"about": "revision", "revision": 7}' })
    store.take(session(6, -6))
    await vi.advanceTimersByTimeAsync(10)
    expect([store.saved.value.revision, asked.length]).toEqual([8, 1])
  })
})

describe('questions about the session', () => {
  const waits = { status: 200, body: { id: 'p', status: 'waiting', progress: 0, result: null } }
  const done = { status: 200, body: { id: 'p', status: 'done', progress: 1, result: { one_voice: true } } }
  const ended = () => socket.onmessage?.({ data: '{"about": "product", "id": "p", "status": "done", "kind": "pitch"}' })

  it('are asked again when the news tell that the answer is there, also where they come before it', async () => {
    const { analyse } = opened()
    answers = [waits, done]
    const answer = analyse('pitch', { strip_id: 't' })
    await vi.advanceTimersByTimeAsync(60_000)
    expect(asked.length).toBe(1) // nothing is polled
    ended()
    expect(await answer).toEqual({ one_voice: true })
    answers = [waits, done]
    ended()
    expect(await analyse('pitch', { strip_id: 't' })).toEqual({ one_voice: true })
    answers = [waits]
    const missed = analyse('pitch', { strip_id: 't' })
    await vi.advanceTimersByTimeAsync(10)
    // The session itself, and what was listened to, are read anew as well.
    answers = [{ status: 200, body: session(5) }, { status: 200, body: null }, done]
    socket.onmessage?.({ data: '{"about": "missed"}' })
    expect(await missed).toEqual({ one_voice: true })
  })

  it('are given up at the server once nobody here waits for the answer any more', async () => {
    const { analyse } = opened()
    const [one, other] = [new AbortController(), new AbortController()]
    answers = [waits, waits]
    const both = [one, other].map(({ signal }) => analyse('pitch', { strip_id: 't' }, signal).catch(() => 'given up'))
    await vi.advanceTimersByTimeAsync(10)
    one.abort()
    expect(await both[0]).toBe('given up')
    expect(socket.said).toEqual([{ do: 'look-at', strip_id: 't' }])
    other.abort()
    expect(await both[1]).toBe('given up')
    expect(socket.said.at(-1)).toEqual({ do: 'give-up', product_ids: ['p'] })
  })
})

describe('treatments', () => {
  const held = { ledger: [{ ...ENTRY, id: 'b' }], ledger_on: true, phase: 'linear', amount: 80 }
  const base = session(1)
  const both = { ...base, tracks: [{ ...TRACK, variants: { B: held } }] } as unknown as SessionState

  it('shows what another one holds, and the first again, as it was', () => {
    const other = asTreated(both, 'B')
    expect(other.tracks[0]).toMatchObject({ ...held, gain_db: 0 })
    expect(other.master.ledger).toEqual([])
    expect(asTreated(asTreated(other, 'A'), 'B')).toEqual(other)
    expect(asTreated(other, 'A').tracks[0]?.ledger).toEqual(both.tracks[0]?.ledger)
  })

  it('sends edits to the one that is worked on, and shows them nowhere else', () => {
    const dragged = setMove(both.tracks[0] as Track, 'e', { ...BELL, hz: 999 } as Move)
    if (!dragged) throw new Error('the move is there')
    const ofB = inTreatment(dragged, 'B')
    expect(ofB).toMatchObject({ do: 'set-move', treatment: 'B' })
    expect(inTreatment(setTrack(TRACK as unknown as Track, { pan: 1 }), 'B')).not.toHaveProperty('treatment')
    expect(overlaid(both, [ofB])).toEqual(both)
  })
})
