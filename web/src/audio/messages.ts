/** What page, socket worker and worklet tell each other inside the browser. */
import type { FromMonitor, FromPage } from '../api/client'

/** One packet of sound: the monitor's header and planar samples. */
export interface Sound {
  readonly epoch: number
  readonly streamFrame: number
  readonly position: number
  readonly seq: number
  /** How many exchanges the monitor knows to have been refused. */
  readonly refusals: number
  readonly samples: Float32Array
}

export const HEADER_BYTES = 40

export function unpackSound(data: ArrayBuffer): Sound {
  const [epoch = 0, streamFrame = 0, position = 0, seq = 0, refusals = 0] = new Float64Array(data, 0, 5)
  return { epoch, streamFrame, position, seq, refusals, samples: new Float32Array(data, HEADER_BYTES) }
}

export type ToWorklet =
  | { kind: 'sound'; data: ArrayBuffer }
  | { kind: 'start'; epoch: number }
  | { kind: 'stop' }
  | { kind: 'last' }
  | { kind: 'capture'; frames: number }

export type FromWorklet =
  | {
      kind: 'held'
      epoch: number
      played: number
      underruns: number
      exchanges: number
      spare: number
      position: number
      seq: number
      contextTime: number
    }
  | { kind: 'late'; epoch: number; frame: number; played: number; held: number; refusals: number }
  | { kind: 'captured'; epoch: number; left: Float32Array; right: Float32Array; underruns: number }

export type ToWorker =
  | { kind: 'connect'; url: string }
  | { kind: 'worklet'; worklet: MessagePort }
  | { kind: 'send'; message: FromPage }
  | { kind: 'stop' }
  | { kind: 'capture'; frames: number }

/** The session frame that is being played, and how often it ran dry since the start. */
export interface Position {
  readonly epoch: number
  readonly frame: number
  readonly underruns: number
}

export type FromWorker =
  | { kind: 'connected' }
  | { kind: 'lost' }
  | { kind: 'said'; messages: readonly FromMonitor[]; position: Position | null }
  | { kind: 'heard'; seq: number }
  | Extract<FromWorklet, { kind: 'captured' }>
