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
const SELDOM_REPORT_EVERY_FRAMES = 512 // where so much is held that nobody waits for it
const AMPLE_FRAMES = 3072

/** Sound that is held, and how much of it counts: what came in exchange may have cut it short. */
interface Held {
  readonly sound: Sound
  frames: number
}

const lengthOf = (sound: Sound) => sound.samples.length / 2

class MivloPlayer extends AudioWorkletProcessor {
  private socket: MessagePort | null = null
  private queue: Held[] = []
  private offset = 0
  private queued = 0
  private epoch = -1
  private running = false
  private last = false
  private played = 0
  private underruns = 0
  private refusals = 0
  private exchanges = 0
  private spare = 0 // frames that were left before the newest exchange when it came
  private refused = false // until the monitor has answered that, with sound for what is behind
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
      if (sound.epoch === this.epoch && sound.refusals === this.refusals) this.accept(sound)
    } else if (message.kind === 'start') {
      this.reset(message.epoch)
      this.capture = this.captureFrames
        ? { left: new Float32Array(this.captureFrames), right: new Float32Array(this.captureFrames), filled: 0 }
        : null
    } else if (message.kind === 'stop') this.reset(-1)
    else if (message.kind === 'last') this.last = true
    else this.captureFrames = message.frames
  }

  /** Sound for what is held already comes in exchange for it, unless that has been played meanwhile. */
  private accept(sound: Sound) {
    const end = this.played + this.queued
    if (sound.streamFrame < this.played) {
      this.refusals += 1
      this.refused = true
      const { epoch, refusals, played } = this
      this.post({ kind: 'late', epoch, frame: sound.streamFrame, played, held: end, refusals })
      return
    }
    if (sound.streamFrame < end) {
      this.exchanges += 1
      this.spare = sound.streamFrame - this.played
    }
    while (this.played + this.queued > sound.streamFrame) {
      const last = this.queue.at(-1)
      if (!last) break
      const from = Math.max(sound.streamFrame - last.sound.streamFrame, 0)
      this.queued -= last.frames - Math.max(from, this.queue.length === 1 ? this.offset : 0)
      if (from) last.frames = from
      else this.queue.pop()
    }
    this.refused = false
    this.postCaptured()
    const gap = sound.streamFrame - this.played - this.queued
    if (gap > 0) this.push({ ...sound, streamFrame: sound.streamFrame - gap, samples: new Float32Array(2 * gap) })
    this.push(sound)
  }

  private push(sound: Sound) {
    this.queue.push({ sound, frames: lengthOf(sound) })
    this.queued += lengthOf(sound)
  }

  private reset(epoch: number) {
    if (this.running) this.fading = { left: this.lastOut[0], right: this.lastOut[1], gain: 1 }
    this.queue = []
    this.offset = this.queued = this.played = this.underruns = this.sinceReport = 0
    this.refusals = this.exchanges = this.spare = 0
    this.running = this.last = this.refused = false
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
      const held = this.queue[0]
      if (!held) {
        this.running = false
        if (!this.last) this.underruns += 1
        break
      }
      const { sound, frames } = held
      const count = Math.min(left.length - done, frames - this.offset)
      left.set(sound.samples.subarray(this.offset, this.offset + count), done)
      const second = lengthOf(sound) + this.offset
      right.set(sound.samples.subarray(second, second + count), done)
      done += count
      this.offset += count
      this.report(sound, count)
      if (this.offset >= frames) {
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
    if (this.sinceReport < (this.queued > AMPLE_FRAMES ? SELDOM_REPORT_EVERY_FRAMES : REPORT_EVERY_FRAMES)) return
    this.sinceReport = 0
    this.post({
      kind: 'held',
      epoch: this.epoch,
      played: this.played,
      underruns: this.underruns,
      exchanges: this.exchanges,
      spare: this.spare,
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
    this.postCaptured()
  }

  /** What was told of changes is true once no refusal is unanswered. */
  private postCaptured() {
    const capture = this.capture
    if (!capture || capture.filled < capture.left.length || this.refused) return
    this.capture = null
    this.captureFrames = 0
    const { epoch, underruns } = this
    this.post({ kind: 'captured', epoch, left: capture.left, right: capture.right, underruns })
  }

  private post(message: FromWorklet) {
    this.socket?.postMessage(message)
  }
}

registerProcessor('mivlo-player', MivloPlayer)
