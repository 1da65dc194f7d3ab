/** Pure changes of a session's state, as the page shows them before the server has answered. */
import type { EditStep, LedgerEntry, Move, MoveKind, Pin, SessionState, TrackState } from '../api/client'
import { octavesToQ } from './figures'

export type SaveState = 'saved' | 'saving' | 'waiting' | 'failed'

export const newId = () => crypto.randomUUID().replaceAll('-', '')

/** Return the state with edit steps applied. */
export function applySteps(state: SessionState, steps: readonly EditStep[]): SessionState {
  return steps.reduce((before, step) => {
    if (step.do === 'edit-session') {
      return { ...before, ...step }
    }
    if (step.do === 'remove-track') return { ...before, tracks: before.tracks.filter((track) => track.id !== step.track_id) }
    return { ...before, tracks: before.tracks.map((track) => (track.id === step.track_id ? { ...track, ...step.fields } : track)) }
  }, state)
}

export const withMove = (ledger: readonly LedgerEntry[], id: string, move: Move): LedgerEntry[] =>
  ledger.map((entry) => (entry.id === id ? { ...entry, move } : entry))

/** Return a step that sets some fields of a track. */
export function editTrack(track: TrackState, fields: Partial<TrackState>): EditStep {
  return { do: 'edit-track', track_id: track.id, fields } as EditStep
}

const BUTTERWORTH_Q = 0.7071

/** Return a move of a kind at a frequency: its other figures as they start, or as the move before it had them. */
export function moveOfKind(kind: MoveKind, hz: number, before?: Move): Move {
  const known = (before ?? {}) as Record<string, unknown>
  const figures = Object.fromEntries(
    kind.figures.map((figure) => [figure.name, figure.name === 'q' ? figure.start : (known[figure.name] ?? figure.start)]),
  )
  return { ...figures, kind: kind.kind, hz, on: before?.on ?? true } as Move
}

/** Return a move with one figure set; a cut of 6 dB per octave has no Q to choose. */
export function withFigure(move: Move, name: string, value: number | boolean): Move {
  const next = { ...move, [name]: value }
  return (name === 'slope_db_per_octave' && value === 6 ? { ...next, q: BUTTERWORTH_Q } : next) as Move
}

/** Return the bell that answers a pin: as narrow as what was probed, as deep as it stood out within reason. */
export function bellOfPin(pin: Pin): Move {
  const deep = pin.excess_db == null ? 6 : Math.min(Math.max(Math.round(pin.excess_db), 3), 12)
  return { kind: 'bell', hz: pin.hz, gain_db: -deep, q: octavesToQ(pin.width_octaves), on: true } as Move
}
