import { beforeEach, describe, expect, it, vi } from 'vitest'
import type { FromWorklet, ToWorklet } from './messages'

/** The worklet without a browser: its processor class, called block by block. */
interface Processor {
  port: { onmessage: ((event: { data: unknown }) => void) | null }
  process(inputs: Float32Array[][], outputs: Float32Array[][]): boolean
}

const BLOCK = 128
let processor: Processor
let said: FromWorklet[]
let tell: (message: ToWorklet) => void

beforeEach(async () => {
  let made: (new () => Processor) | null = null
  vi.stubGlobal('currentTime', 0)
  vi.stubGlobal('sampleRate', 48_000)
  vi.stubGlobal(
    'AudioWorkletProcessor',
    class {
      port = { onmessage: null }
    },
  )
  vi.stubGlobal('registerProcessor', (_name: string, processorClass: new () => Processor) => (made = processorClass))
  vi.resetModules()
  await import('./player.worklet')
  if (!made) throw new Error('the worklet did not register itself')
  processor = new (made as new () => Processor)()
  said = []
  const socket = {
    onmessage: null as ((event: { data: ToWorklet }) => void) | null,
    postMessage: (message: FromWorklet) => said.push(message),
  }
  processor.port.onmessage?.({ data: socket })
  tell = (message) => socket.onmessage?.({ data: message })
})

/** A packet as the monitor sends it; samples count up so that a gap or a repeat shows. */
function packet(epoch: number, streamFrame: number, frames: number, refusals = 0, sign = 1): ArrayBuffer {
  const seq = Math.floor(streamFrame / 1024)
  const data = new ArrayBuffer(40 + 8 * frames)
  new Float64Array(data, 0, 5).set([epoch, streamFrame, 1000 + streamFrame, seq, refusals])
  const samples = new Float32Array(data, 40)
  for (let frame = 0; frame < frames; frame++) {
    samples[frame] = sign * (streamFrame + frame + 1)
    samples[frames + frame] = -sign * (streamFrame + frame + 1)
  }
  return data
}

function play(blocks: number): { left: number[]; right: number[] } {
  const left: number[] = []
  const right: number[] = []
  for (let block = 0; block < blocks; block++) {
    const out = [new Float32Array(BLOCK), new Float32Array(BLOCK)] as const
    processor.process([], [[...out]])
    left.push(...out[0])
    right.push(...out[1])
  }
  return { left, right }
}

const counting = (from: number, frames: number) => Array.from({ length: frames }, (_, index) => from + index + 1)

describe('the worklet', () => {
  it('waits for its first kilo of frames, then plays every frame once', () => {
    tell({ kind: 'start', epoch: 1 })
    tell({ kind: 'sound', data: packet(1, 0, 512) })
    expect(Math.max(...play(2).left)).toBe(0)
    tell({ kind: 'sound', data: packet(1, 512, 512) })
    const { left, right } = play(8)
    expect(left).toEqual(counting(0, 1024))
    expect(right).toEqual(left.map((sample) => -sample))
  })

  it('plays packets of any length across its blocks', () => {
    tell({ kind: 'start', epoch: 1 })
    let sent = 0
    for (const frames of [700, 1, 399, 129, 64, 1000]) {
      tell({ kind: 'sound', data: packet(1, sent, frames) })
      sent += frames
    }
    expect(play(17).left).toEqual(counting(0, 17 * BLOCK))
  })

  it('leaves out what belongs to an older play', () => {
    tell({ kind: 'start', epoch: 2 })
    tell({ kind: 'sound', data: packet(1, 0, 2048) })
    expect(Math.max(...play(4).left)).toBe(0)
    tell({ kind: 'sound', data: packet(2, 0, 1024) })
    expect(play(1).left).toEqual(counting(0, BLOCK))
  })

  it('counts running dry, fills up again, and goes on with the next frame', () => {
    tell({ kind: 'start', epoch: 1 })
    tell({ kind: 'sound', data: packet(1, 0, 1024) })
    play(10)
    tell({ kind: 'sound', data: packet(1, 1024, 512) })
    expect(play(1).left.slice(-1)).toEqual([0])
    tell({ kind: 'sound', data: packet(1, 1536, 1024) })
    expect(play(2).left).toEqual(counting(1024, 256))
    const reports = said.filter((message) => message.kind === 'held')
    expect(reports.at(-1)).toMatchObject({ underruns: 1, played: 1280, position: 2280 })
  })

  it('does not call the end of the song an underrun', () => {
    tell({ kind: 'start', epoch: 1 })
    tell({ kind: 'sound', data: packet(1, 0, 300) })
    tell({ kind: 'last' })
    expect(play(3).left.slice(0, 300)).toEqual(counting(0, 300))
    tell({ kind: 'start', epoch: 2 })
    tell({ kind: 'sound', data: packet(2, 0, 1280) })
    play(10)
    expect(said.at(-1)).toMatchObject({ epoch: 2, underruns: 0 })
  })

  it('runs out to zero instead of clicking when it is stopped', () => {
    tell({ kind: 'start', epoch: 1 })
    tell({ kind: 'sound', data: packet(1, 0, 1024) })
    play(4)
    tell({ kind: 'stop' })
    const { left } = play(4)
    expect(left[0]).toBeGreaterThan(500)
    for (let index = 1; index < left.length; index++) expect(left[index]).toBeLessThanOrEqual(left[index - 1] ?? 0)
    expect(left.at(-1)).toBe(0)
  })

  it('reports what it has played every 256 frames, less often while it holds much, with the change heard', () => {
    tell({ kind: 'start', epoch: 1 })
    for (let sent = 0; sent < 4096; sent += 256) tell({ kind: 'sound', data: packet(1, sent, 256) })
    play(32)
    const reports = said.filter((message) => message.kind === 'held')
    expect(reports).toHaveLength(14)
    expect(reports.map((report) => report.kind === 'held' && report.seq)).toEqual([
      0, 0, 1, 1, 1, 1, 2, 2, 2, 2, 3, 3, 3, 3,
    ])
  })

  it('exchanges what it has not played yet, from any frame on', () => {
    tell({ kind: 'start', epoch: 1 })
    for (let sent = 0; sent < 2048; sent += 512) tell({ kind: 'sound', data: packet(1, sent, 512) })
    play(3)
    tell({ kind: 'sound', data: packet(1, 448, 512, 0, -1) }) // within the first packet, behind what was played
    tell({ kind: 'sound', data: packet(1, 960, 512, 0, -1) })
    const { left, right } = play(8)
    const wanted = [...counting(384, 64), ...counting(448, 960).map((sample) => -sample)]
    expect(left).toEqual(wanted)
    expect(right).toEqual(wanted.map((sample) => -sample))
    expect(said.at(-1)).toMatchObject({ kind: 'held', exchanges: 1, spare: 64 })
    tell({ kind: 'sound', data: packet(1, 1408, 640) }) // right where it stands
    expect(play(5).left).toEqual(counting(1408, 640))
    expect(said.filter((message) => message.kind === 'late')).toEqual([])
  })

  it('refuses what comes too late, and all of it until the monitor knows', () => {
    tell({ kind: 'capture', frames: 1000 })
    tell({ kind: 'start', epoch: 1 })
    for (let sent = 0; sent < 2048; sent += 512) tell({ kind: 'sound', data: packet(1, sent, 512) })
    play(5)
    tell({ kind: 'sound', data: packet(1, 576, 512, 0, -1) })
    tell({ kind: 'sound', data: packet(1, 1088, 512, 0, -1) })
    expect(said.filter((message) => message.kind === 'late')).toEqual([
      { kind: 'late', epoch: 1, frame: 576, played: 640, held: 2048, refusals: 1 },
    ])
    expect(play(5).left).toEqual(counting(640, 640))
    const captured = () => said.filter((message) => message.kind === 'captured').length
    expect(captured()).toBe(0) // what changed where is not told yet
    tell({ kind: 'sound', data: packet(1, 2048, 512, 1) })
    expect(captured()).toBe(1)
    expect(play(10).left).toEqual(counting(1280, 1280))
  })

  it('keeps what it plays when asked, from the first frame on', () => {
    tell({ kind: 'capture', frames: 1000 })
    tell({ kind: 'start', epoch: 1 })
    tell({ kind: 'sound', data: packet(1, 0, 2048) })
    play(16)
    const captured = said.find((message) => message.kind === 'captured')
    expect(captured?.kind === 'captured' && [...captured.left]).toEqual(counting(0, 1000))
  })
})
