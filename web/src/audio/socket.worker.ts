/** Holds the socket to the monitor, away from the page's own work, with a straight line to the worklet. */
import type { FromMonitor, FromPage } from '../api/client'
import type { FromWorker, FromWorklet, ToWorker, ToWorklet } from './messages'

const RETRY_MS = 1000
const POSITION_MS = 50 // every one is a picture of the page drawn anew
let socket: WebSocket | null = null
let worklet: MessagePort | null = null
let heardSeq = -1
let lastPosition = 0

const tell = (message: FromWorker) => self.postMessage(message)
const toWorklet = (message: ToWorklet, transfer: Transferable[] = []) => worklet?.postMessage(message, transfer)

function send(message: FromPage) {
  if (socket?.readyState === WebSocket.OPEN) socket.send(JSON.stringify(message))
}

function connect(url: string) {
  socket = new WebSocket(url)
  socket.binaryType = 'arraybuffer'
  socket.onopen = () => tell({ kind: 'connected' })
  socket.onclose = () => {
    toWorklet({ kind: 'stop' })
    tell({ kind: 'lost' })
    setTimeout(() => connect(url), RETRY_MS)
  }
  socket.onmessage = (event: MessageEvent<ArrayBuffer | string>) => {
    if (typeof event.data !== 'string') {
      toWorklet({ kind: 'sound', data: event.data }, [event.data])
      return
    }
    const message = JSON.parse(event.data) as FromMonitor
    if (message.say === 'ended') toWorklet({ kind: 'last' })
    tell({ kind: 'said', message })
  }
}

function fromWorklet(message: FromWorklet) {
  if (message.kind === 'captured') {
    tell(message)
    return
  }
  if (message.kind === 'late') {
    const { epoch, frame, held, refusals } = message
    send({ do: 'late', epoch, frame, held_frames: held, refusals })
    return
  }
  const { epoch, played, underruns, exchanges } = message
  send({ do: 'held', epoch, played_frames: played, underruns, exchanges })
  if (message.seq !== heardSeq) {
    heardSeq = message.seq
    tell({ kind: 'heard', seq: message.seq })
  }
  const now = performance.now()
  if (now - lastPosition < POSITION_MS) return
  lastPosition = now
  tell({
    kind: 'position',
    epoch: message.epoch,
    position: message.position,
    played: message.played,
    underruns: message.underruns,
  })
}

self.onmessage = (event: MessageEvent<ToWorker>) => {
  const message = event.data
  if (message.kind === 'connect') connect(message.url)
  else if (message.kind === 'worklet') {
    worklet = message.worklet
    worklet.onmessage = (inner: MessageEvent<FromWorklet>) => fromWorklet(inner.data)
  } else if (message.kind === 'stop') {
    send({ do: 'stop' })
    toWorklet({ kind: 'stop' })
  } else if (message.kind === 'capture') toWorklet({ kind: 'capture', frames: message.frames })
  else {
    if (message.message.do === 'play') {
      heardSeq = 0
      toWorklet({ kind: 'start', epoch: message.message.epoch })
    }
    send(message.message)
  }
}
