/** Pure changes of a session's state, as the page shows them before the server has answered. */
import type { EditStep, LedgerEntry, Move, SessionState, TrackState } from '../api/client'

export const newId = () => crypto.randomUUID().replaceAll('-', '')

/** Return the state with edit steps applied. */
export function applySteps(state: SessionState, steps: readonly EditStep[]): SessionState {
  return steps.reduce((before, step) => {
    if (step.do === 'edit-session') {
      const { do: _, ...fields } = step
      return { ...before, ...fields }
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

/** What a move is called in a sentence. */
export const moveTitle = (kinds: readonly { kind: string; label: string }[], move: Move) =>
  kinds.find((kind) => kind.kind === move.kind)?.label ?? move.kind
