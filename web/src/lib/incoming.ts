/** A file on its way into the session. */
export interface Incoming {
  name: string
  part: number
  state: 'waiting' | 'sending' | 'reading' | 'in' | 'refused'
  reason: string
}
