/** The page's end of the live monitor: AudioContext, worklet and socket worker behind a few calls. */
import type { FromMonitor, Mix } from '../api/client'
import type { FromWorker, ToWorker } from './messages'
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
  readonly startMix: Mix
  readonly changes: readonly LoggedChange[]
  readonly underruns: number
}

/** Owns the AudioContext; one for the life of the page. */
export class Monitor {
  private context: AudioContext | null = null
  private readonly worker = new Worker(new URL('./socket.worker.ts', import.meta.url), { type: 'module' })
  private epoch = 0
  private seq = 0
  private playing = false
  private start: { frame: number; mix: Mix } | null = null
  private readonly sent = new Map<number, Mix>()
  private changes: LoggedChange[] = []
  private onCaptured: ((captured: Captured) => void) | null = null
  private readonly heard = new Map<number, (now: number) => void>()
  underruns = 0

  constructor(
    private readonly url: string,
    private readonly events: MonitorEvents,
  ) {
    this.worker.onmessage = (event: MessageEvent<FromWorker>) => this.take(event.data)
  }

  /** Open the sound device at the session's rate and the socket; must follow a gesture of the user. */
  async open(sampleRate: number): Promise<void> {
    if (this.context?.sampleRate === sampleRate) {
      if (this.context.state === 'suspended') await this.context.resume()
      return
    }
    const first = this.context === null
    await this.context?.close()
    this.context = new AudioContext({ sampleRate, latencyHint: 'interactive' })
    await this.context.audioWorklet.addModule(workletUrl)
    const node = new AudioWorkletNode(this.context, 'mivlo-player', { numberOfInputs: 0, outputChannelCount: [2] })
    node.connect(this.context.destination)
    const channel = new MessageChannel()
    node.port.postMessage(channel.port1, [channel.port1])
    this.post(first ? { kind: 'open', url: this.url, worklet: channel.port2 } : { kind: 'worklet', worklet: channel.port2 }, [channel.port2])
    if (this.context.state === 'suspended') await this.context.resume()
  }

  play(atFrame: number, sampleRate: number, mix: Mix, watchTrackId: string | null, queueMs: number) {
    this.epoch += 1
    this.seq = 0
    this.sent.clear()
    this.changes = []
    this.start = { frame: atFrame, mix }
    this.playing = true
    const message = { do: 'play', epoch: this.epoch, at_frame: atFrame, sample_rate_hz: sampleRate, queue_ms: queueMs, watch_track_id: watchTrackId, mix } as const
    this.post({ kind: 'send', message })
  }

  setMix(mix: Mix, watchTrackId: string | null): number {
    if (!this.playing) return 0
    this.seq += 1
    this.sent.set(this.seq, mix)
    this.post({ kind: 'send', message: { do: 'mix', seq: this.seq, watch_track_id: watchTrackId, mix } })
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
    if (message.kind === 'connected') this.events.connected()
    else if (message.kind === 'lost') {
      this.playing = false
      this.events.lost()
    } else if (message.kind === 'position') {
      this.underruns = message.underruns
      if (this.playing && message.epoch === this.epoch) this.events.position(message.position, message.underruns)
    } else if (message.kind === 'heard') this.resolveHeard(message.seq)
    else if (message.kind === 'captured') this.finishCapture(message)
    else this.said(message.message)
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
    if (message.say === 'applied' && message.epoch === this.epoch) {
      const mix = this.sent.get(message.seq)
      if (mix) this.changes.push({ frame: message.frame, mix })
    }
    if (message.say === 'ended') this.playing = false
    this.events.said(message)
  }

  private finishCapture(message: Extract<FromWorker, { kind: 'captured' }>) {
    if (!this.start) return
    this.onCaptured?.({
      left: message.left, right: message.right, startFrame: this.start.frame, startMix: this.start.mix,
      changes: this.changes.filter((change) => change.frame < message.left.length), underruns: message.underruns,
    })
  }

  private post(message: ToWorker, transfer: Transferable[] = []) {
    this.worker.postMessage(message, transfer)
  }
}
