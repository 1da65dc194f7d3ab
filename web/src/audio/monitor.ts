/** The page's end of the live monitor: AudioContext, worklet and socket worker behind a few calls. */
import type { FromMonitor, FromPage, Listening, Mix } from '../api/client'
import type { FromWorker, Position, ToWorker } from './messages'
import workletUrl from './player.worklet.ts?worker&url'

/** A change and the stream frame from which it was heard: what a replay needs. */
export interface LoggedChange {
  readonly frame: number
  readonly mix: Mix
}

export interface MonitorEvents {
  connected(): void
  lost(): void
  position(frame: number, underruns: number): void
  said(message: FromMonitor): void
}

export interface Captured {
  readonly left: Float32Array
  readonly right: Float32Array
  readonly startFrame: number
  readonly startMix: Mix | null // nobody tells it in a blind check
  readonly changes: readonly LoggedChange[]
  readonly underruns: number
}

/** What is listened to: a way of listening to a session, at the newest revision that the page has seen. */
export interface Heard {
  readonly sessionId: string
  readonly revision: number
  readonly listening: Listening
}

const asSent = ({ sessionId, revision, listening }: Heard) => ({
  session_id: sessionId,
  revision,
  listening: listening as Extract<FromPage, { do: 'listen' }>['listening'],
})

let only: Monitor | null = null

/** The monitor of this page: there is one sound device, whichever session is open. */
export function theMonitor(url: string): Monitor {
  only ??= new Monitor(url)
  return only
}

/** Owns the AudioContext; one for the life of the page. */
export class Monitor {
  private context: AudioContext | null = null
  private readonly worker = new Worker(new URL('./socket.worker.ts', import.meta.url), { type: 'module' })
  private epoch = 0
  private seq = 0
  private playing = false
  private startFrame = 0
  private log: LoggedChange[] = []
  private isConnected = false
  private opening: Promise<void> = Promise.resolve()
  private events: MonitorEvents | null = null
  private onCaptured: ((captured: Captured) => void) | null = null
  private readonly heard = new Map<number, (now: number) => void>()
  underruns = 0

  constructor(url: string) {
    this.worker.onmessage = (event: MessageEvent<FromWorker>) => this.take(event.data)
    this.post({ kind: 'connect', url })
  }

  /** Tell another session's store from now on. */
  hand(events: MonitorEvents) {
    this.events = events
    if (this.isConnected) events.connected()
  }

  /**
   * Open the sound device at the session's rate; must follow a gesture of the user. Whoever asks meanwhile waits,
   * too.
   */
  open(sampleRate: number): Promise<void> {
    this.opening = this.opening.catch(() => undefined).then(() => this.openDevice(sampleRate))
    return this.opening
  }

  private async openDevice(sampleRate: number): Promise<void> {
    if (this.context?.sampleRate === sampleRate) {
      if (this.context.state === 'suspended') await this.context.resume()
      return
    }
    await this.context?.close()
    this.context = new AudioContext({ sampleRate, latencyHint: 'interactive' })
    await this.context.audioWorklet.addModule(workletUrl)
    const node = new AudioWorkletNode(this.context, 'mivlo-player', { numberOfInputs: 0, outputChannelCount: [2] })
    node.connect(this.context.destination)
    const channel = new MessageChannel()
    node.port.postMessage(channel.port1, [channel.port1])
    this.post({ kind: 'worklet', worklet: channel.port2 }, [channel.port2])
    if (this.context.state === 'suspended') await this.context.resume()
  }

  /** Play from a frame on; while something is captured, the monitor tells each mix that it makes. */
  play(atFrame: number, heard: Heard, queueMs: number) {
    this.epoch += 1
    this.seq = 0
    this.log = []
    this.startFrame = atFrame
    this.playing = true
    const { epoch } = this
    const log = this.onCaptured !== null
    this.post({
      kind: 'send',
      message: { do: 'play', epoch, at_frame: atFrame, queue_ms: queueMs, log, ...asSent(heard) },
    })
  }

  /** Listen otherwise, playing or not; returns the number by which the first sound of it is known. */
  listen(heard: Heard): number {
    this.seq += 1
    this.post({ kind: 'send', message: { do: 'listen', seq: this.seq, ...asSent(heard) } })
    return this.seq
  }

  stop() {
    this.playing = false
    this.post({ kind: 'stop' })
  }

  /** Keep what the worklet plays from the next start on, for checks against an offline render. */
  capture(frames: number): Promise<Captured> {
    this.post({ kind: 'capture', frames })
    return new Promise((resolve) => (this.onCaptured = resolve))
  }

  /** Resolve with the time at which the first frame of a change left the worklet. */
  whenHeard(seq: number): Promise<number> {
    return new Promise((resolve) => this.heard.set(seq, resolve))
  }

  private take(message: FromWorker) {
    if (message.kind === 'connected') {
      this.isConnected = true
      this.events?.connected()
    } else if (message.kind === 'lost') {
      this.isConnected = this.playing = false
      this.events?.lost()
    } else if (message.kind === 'heard') this.resolveHeard(message.seq)
    else if (message.kind === 'captured') this.finishCapture(message)
    else {
      if (message.position) this.showPosition(message.position)
      for (const one of message.messages) this.said(one)
    }
  }

  private showPosition({ epoch, frame, underruns }: Position) {
    this.underruns = underruns
    if (this.playing && epoch === this.epoch) this.events?.position(frame, underruns)
  }

  private resolveHeard(seq: number) {
    const now = performance.now()
    for (const [waiting, resolve] of this.heard) {
      if (waiting <= seq) {
        this.heard.delete(waiting)
        resolve(now)
      }
    }
  }

  private said(message: FromMonitor) {
    if (message.type === 'applied' && message.epoch === this.epoch && message.mix) {
      const { frame, mix } = message
      this.log = [...this.log.filter((change) => change.frame <= frame), { frame, mix }] // later ones are void
    }
    if (message.type === 'ended') this.playing = false
    this.events?.said(message)
  }

  private finishCapture(message: Extract<FromWorker, { kind: 'captured' }>) {
    const [first, ...changes] = this.log
    this.onCaptured?.({
      left: message.left,
      right: message.right,
      startFrame: this.startFrame,
      startMix: first?.mix ?? null,
      changes: changes.filter((change) => change.frame < message.left.length),
      underruns: message.underruns,
    })
    this.onCaptured = null
  }

  private post(message: ToWorker, transfer: Transferable[] = []) {
    this.worker.postMessage(message, transfer)
  }
}
