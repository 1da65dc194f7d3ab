/** Plays what the monitor sends, frame for frame, and tells how much of it is left. */
import { unpackSound, type FromWorklet, type Sound, type ToWorklet } from './messages'

declare const currentTime: number
declare const sampleRate: number
declare function registerProcessor(name: string, processor: new () => AudioWorkletProcessor): void
declare class AudioWorkletProcessor {
  readonly port: MessagePort
}

const PREFILL_FRAMES = 1024
const FADE_S = 0.005
const REPORT_EVERY_FRAMES = 256

class MivloPlayer extends AudioWorkletProcessor {
  private socket: MessagePort | null = null
  private queue: Sound[] = []
  private offset = 0
  private queued = 0
  private epoch = -1
  private running = false
  private last = false
  private played = 0
  private underruns = 0
  private sinceReport = 0
  private fading: { left: number; right: number; gain: number } | null = null
  private lastOut: [number, number] = [0, 0]
  private captureFrames = 0
  private capture: { left: Float32Array; right: Float32Array; filled: number } | null = null

  constructor() {
    super()
    this.port.onmessage = (event: MessageEvent<MessagePort>) => {
      this.socket = event.data
      this.socket.onmessage = (message: MessageEvent<ToWorklet>) => this.take(message.data)
    }
  }

  private take(message: ToWorklet) {
    if (message.kind === 'sound') {
      const sound = unpackSound(message.data)
      if (sound.epoch !== this.epoch) return
      this.queue.push(sound)
      this.queued += sound.samples.length / 2
    } else if (message.kind === 'start') {
      this.reset(message.epoch)
      this.capture = this.captureFrames
        ? { left: new Float32Array(this.captureFrames), right: new Float32Array(this.captureFrames), filled: 0 }
        : null
    } else if (message.kind === 'stop') this.reset(-1)
    else if (message.kind === 'last') this.last = true
    else this.captureFrames = message.frames
  }

  private reset(epoch: number) {
    if (this.running) this.fading = { left: this.lastOut[0], right: this.lastOut[1], gain: 1 }
    this.queue = []
    this.offset = this.queued = this.played = this.underruns = this.sinceReport = 0
    this.running = this.last = false
    this.epoch = epoch
  }

  process(_inputs: Float32Array[][], outputs: Float32Array[][]): boolean {
    const left = outputs[0]?.[0]
    const right = outputs[0]?.[1]
    if (!left || !right) return true
    if (!this.running && this.epoch >= 0 && (this.queued >= PREFILL_FRAMES || (this.last && this.queued > 0)))
      this.running = true
    const done = this.running ? this.play(left, right) : 0
    if (this.fading) this.fadeOut(left, right, done)
    else if (done) this.lastOut = [left[done - 1] ?? 0, right[done - 1] ?? 0]
    return true
  }

  private play(left: Float32Array, right: Float32Array): number {
    let done = 0
    while (done < left.length) {
      const sound = this.queue[0]
      if (!sound) {
        this.running = false
        if (!this.last) this.underruns += 1
        break
      }
      const frames = sound.samples.length / 2
      const count = Math.min(left.length - done, frames - this.offset)
      left.set(sound.samples.subarray(this.offset, this.offset + count), done)
      right.set(sound.samples.subarray(frames + this.offset, frames + this.offset + count), done)
      done += count
      this.offset += count
      this.report(sound, count)
      if (this.offset === frames) {
        this.queue.shift()
        this.offset = 0
      }
    }
    this.queued -= done
    this.keep(left, right, done)
    return done
  }

  private report(sound: Sound, count: number) {
    this.played += count
    this.sinceReport += count
    if (this.sinceReport < REPORT_EVERY_FRAMES) return
    this.sinceReport = 0
    this.post({
      kind: 'held',
      epoch: this.epoch,
      played: this.played,
      underruns: this.underruns,
      position: sound.position + this.offset,
      seq: sound.seq,
      contextTime: currentTime,
    })
  }

  /** A cut would click: the last sample of what was playing runs out to zero. */
  private fadeOut(left: Float32Array, right: Float32Array, from: number) {
    const fade = this.fading
    if (!fade) return
    for (let i = from; i < left.length && fade.gain > 0; i++) {
      fade.gain -= 1 / (FADE_S * sampleRate)
      left[i] = fade.left * Math.max(fade.gain, 0)
      right[i] = fade.right * Math.max(fade.gain, 0)
    }
    if (fade.gain <= 0 || from) this.fading = null
  }

  private keep(left: Float32Array, right: Float32Array, done: number) {
    const capture = this.capture
    if (!capture) return
    const count = Math.min(done, capture.left.length - capture.filled)
    capture.left.set(left.subarray(0, count), capture.filled)
    capture.right.set(right.subarray(0, count), capture.filled)
    capture.filled += count
    if (capture.filled === capture.left.length) {
      this.capture = null
      this.captureFrames = 0
      this.post({
        kind: 'captured',
        epoch: this.epoch,
        left: capture.left,
        right: capture.right,
        underruns: this.underruns,
      })
    }
  }

  private post(message: FromWorklet) {
    this.socket?.postMessage(message)
  }
}

registerProcessor('mivlo-player', MivloPlayer)
