/** Holds the socket to the monitor, away from the page's own work, with a straight line to the worklet. */
import type { FromMonitor, FromPage } from '../api/client'
import type { FromWorker, FromWorklet, Position, ToWorker, ToWorklet } from './messages'

const RETRY_MS = 1000
const SHOWN_MS = 40 // what is only shown is handed on together: each time, the page is drawn anew
const SHOWN: readonly string[] = ['meter', 'gains', 'spectra']
let socket: WebSocket | null = null
let worklet: MessagePort | null = null
let heardSeq = -1
let position: Position | null = null
let shown: FromMonitor[] = []
let waiting = false

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
    if (message.type === 'ended') toWorklet({ kind: 'last' })
    if (SHOWN.includes(message.type)) shown.push(message)
    else tell({ kind: 'said', messages: [message], position: null })
    showSoon()
  }
}

function showSoon() {
  if (waiting || !(position || shown.length)) return
  waiting = true
  setTimeout(() => {
    tell({ kind: 'said', messages: shown, position })
    waiting = false
    position = null
    shown = []
  }, SHOWN_MS)
}

function fromWorklet(message: FromWorklet) {
  if (message.kind === 'captured') {
    tell(message)
    return
  }
  if (message.kind === 'late') {
    const { epoch, frame, played, held, refusals } = message
    send({ do: 'late', epoch, frame, played_frames: played, held_frames: held, refusals })
    return
  }
  const { epoch, played, underruns, exchanges, spare } = message
  send({ do: 'held', epoch, played_frames: played, underruns, exchanges, spare_frames: spare })
  if (message.seq !== heardSeq) {
    heardSeq = message.seq
    tell({ kind: 'heard', seq: message.seq })
  }
  position = { epoch, frame: message.position, underruns }
  showSoon()
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
