import { beforeEach, describe, expect, it, vi } from 'vitest'
import type { FromMonitor } from '../api/client'
import type { FromWorker, FromWorklet, ToWorker, ToWorklet } from './messages'

/** The worker without a browser: what it tells the page, the worklet and the monitor. */
class Socket {
  static readonly OPEN = 1
  static opened: Socket[] = []
  readyState = Socket.OPEN
  sent: unknown[] = []
  onopen: (() => void) | null = null
  onclose: (() => void) | null = null
  onmessage: ((event: { data: ArrayBuffer | string }) => void) | null = null
  constructor(readonly url: string) {
    Socket.opened.push(this)
  }
  send(text: string) {
    this.sent.push(JSON.parse(text))
  }
}

interface WorkletEnd {
  onmessage: ((event: { data: FromWorklet }) => void) | null
  postMessage(message: ToWorklet): void
}

interface Scope {
  onmessage: ((event: { data: ToWorker }) => void) | null
  postMessage(message: FromWorker): void
}

let sent: FromWorker[]
let toWorklet: ToWorklet[]
let worklet: WorkletEnd
let ask: (message: ToWorker) => void

beforeEach(async () => {
  vi.useFakeTimers()
  Socket.opened = []
  sent = []
  toWorklet = []
  worklet = { onmessage: null, postMessage: (message) => toWorklet.push(message) }
  const scope: Scope = { onmessage: null, postMessage: (message) => sent.push(message) }
  vi.stubGlobal('self', scope)
  vi.stubGlobal('WebSocket', Socket)
  vi.resetModules()
  await import('./socket.worker')
  ask = (message) => scope.onmessage?.({ data: message })
  ask({ kind: 'connect', url: 'ws://here/monitor' })
  ask({ kind: 'worklet', worklet: worklet as unknown as MessagePort })
})

const socket = () => Socket.opened.at(-1) as Socket
const receive = (message: Partial<FromMonitor>) => socket().onmessage?.({ data: JSON.stringify(message) })

function held(played: number, seq = 0): FromWorklet {
  const counts = { underruns: 1, exchanges: 2, spare: 300, contextTime: 0 }
  return { kind: 'held', epoch: 3, played, position: 1000 + played, seq, ...counts }
}

describe('the socket worker', () => {
  it('hands sound on to the worklet, and what the worklet holds to the monitor, at once', () => {
    socket().onmessage?.({ data: new ArrayBuffer(48) })
    expect(toWorklet.map((message) => message.kind)).toEqual(['sound'])
    worklet.onmessage?.({ data: held(512) })
    worklet.onmessage?.({ data: { kind: 'late', epoch: 3, frame: 64, played: 90, held: 700, refusals: 1 } })
    expect(socket().sent).toEqual([
      { do: 'held', epoch: 3, played_frames: 512, underruns: 1, exchanges: 2, spare_frames: 300 },
      { do: 'late', epoch: 3, frame: 64, played_frames: 90, held_frames: 700, refusals: 1 },
    ])
  })

  it('tells the page what is only shown together, and the rest at once', () => {
    receive({ type: 'meter' })
    receive({ type: 'gains' })
    worklet.onmessage?.({ data: held(256) })
    worklet.onmessage?.({ data: held(512) })
    receive({ type: 'applied' })
    expect(sent.filter((message) => message.kind === 'said')).toEqual([
      { kind: 'said', messages: [{ type: 'applied' }], position: null },
    ])
    vi.advanceTimersByTime(1000)
    expect(sent.filter((message) => message.kind === 'said').slice(1)).toEqual([
      {
        kind: 'said',
        messages: [{ type: 'meter' }, { type: 'gains' }],
        position: { epoch: 3, frame: 1512, underruns: 1 },
      },
    ])
  })

  it('says once when a change is heard first', () => {
    ask({ kind: 'send', message: { do: 'play', epoch: 3 } as never })
    for (const seq of [0, 1, 1, 2]) worklet.onmessage?.({ data: held(256, seq) })
    expect(sent.filter((message) => message.kind === 'heard')).toEqual([
      { kind: 'heard', seq: 1 },
      { kind: 'heard', seq: 2 },
    ])
  })

  it('stops what plays when the monitor is lost, says so, and comes back', () => {
    socket().onclose?.()
    expect(toWorklet.at(-1)).toEqual({ kind: 'stop' })
    expect(sent.at(-1)).toEqual({ kind: 'lost' })
    vi.advanceTimersByTime(2000)
    expect(Socket.opened).toHaveLength(2)
    socket().onopen?.()
    expect(sent.at(-1)).toEqual({ kind: 'connected' })
  })
})
