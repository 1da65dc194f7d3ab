/** Pure changes of a session's state, as the page shows them before the server has answered. */
import type { Bounce, EditStep, GroupState, Keeper, LedgerEntry, Move, MoveKind, ReadyStart, SessionState, Strip, TrackFields, TrackState } from '../api/client'

export type SaveState = 'saved' | 'saving' | 'waiting' | 'failed'

const SHARED_BY_TWINS = ['ledger', 'ledger_on', 'phase', 'keepers']

export const newId = () => crypto.randomUUID().replaceAll('-', '')

/** Return the state with edit steps applied. */
export function applySteps(state: SessionState, steps: readonly EditStep[]): SessionState {
  return steps.reduce((before, step) => {
    if (step.do === 'edit-session') {
      return { ...before, ...step }
    }
    switch (step.do) {
      case 'remove-track':
        return { ...before, tracks: before.tracks.filter((track) => track.id !== step.track_id) }
      case 'edit-group':
        return {
          ...before,
          master: before.master.id === step.group_id ? ({ ...before.master, ...step.fields } as GroupState) : before.master,
          groups: before.groups.map((group) => (group.id === step.group_id ? ({ ...group, ...step.fields } as GroupState) : group)),
        }
      case 'add-group':
        return { ...before, groups: [...before.groups, { ...before.master, id: step.group_id, name: step.name, gain_db: 0, ledger: [], pins: [], keepers: [], ledger_on: true, solo: false, mute: false, phase: 'minimum' }] }
      case 'remove-group':
        return {
          ...before,
          groups: before.groups.filter((group) => group.id !== step.group_id),
          tracks: before.tracks.map((track) => (track.group_id === step.group_id ? { ...track, group_id: null } : track)),
        }
      default: {
        const twin = step.fields?.twin_id ?? before.tracks.find((track) => track.id === step.track_id)?.twin_id
        const shared = Object.fromEntries(Object.entries(step.fields ?? {}).filter(([name]) => SHARED_BY_TWINS.includes(name)))
        return {
          ...before,
          tracks: before.tracks.map((track) => {
            if (track.id === step.track_id) return { ...track, ...step.fields } as TrackState
            return twin && track.twin_id === twin ? ({ ...track, ...shared } as TrackState) : track
          }),
        }
      }
    }
  }, state)
}

export const withMove = (ledger: readonly LedgerEntry[], id: string, move: Move): LedgerEntry[] =>
  ledger.map((entry) => (entry.id === id ? { ...entry, move } : entry))

/** Return a step that sets some fields of a track, or of a group that is on the bench. */
export function editTrack(strip: Strip, fields: TrackFields): EditStep {
  return (strip.is_group ? { do: 'edit-group', group_id: strip.id, fields } : { do: 'edit-track', track_id: strip.id, fields }) as EditStep
}

/** Return a group, or the mix, as the bench takes it: its sound is what goes into it. */
export function stripOfGroup(group: GroupState, bounce: Bounce | null): Strip {
  return {
    ...group, is_group: true, role: 'other', audio_id: bounce?.audio_id ?? '', start_frame: 0, pan: 0, polarity_flipped: false, group_id: null, twin_id: null,
    audio: { id: bounce?.audio_id ?? '', original_name: group.name, format: '', subtype: '', original_rate_hz: 0, original_frames: 0, n_channels: 2, n_frames: bounce?.n_frames ?? 1 },
  }
}

/** Where a move stands on the frequency axis: one without a frequency of its own, in the middle of its region. */
export const placeHz = (move: Move): number => ('hz' in move ? move.hz : Math.sqrt((move.low_hz ?? 20) * (move.high_hz ?? 20_000)))

/** The figure of a move that says how deep it goes, if it has one. */
export const depthName = (move: Move): 'gain_db' | 'depth_db' | null => ('gain_db' in move ? 'gain_db' : 'depth_db' in move ? 'depth_db' : null)

export const withHz = (move: Move, hz: number): Move => ('hz' in move ? { ...move, hz } : move)

const BUTTERWORTH_Q = 0.7071

/** Return a move of a kind at a frequency: its other figures as they start, or as the move before it had them. */
export function moveOfKind(kind: MoveKind, hz: number, before?: Move): Move {
  const known = (before ?? {}) as Record<string, unknown>
  const figures = Object.fromEntries(
    kind.figures.map((figure) => {
      const before = known[figure.name]
      const fits = typeof before === 'number' && before >= (figure.minimum ?? -Infinity) && before <= (figure.maximum ?? Infinity) && !figure.choices.length
      const kept = fits || (figure.control !== 'number' && figure.choices.includes(before as string | number))
      return [figure.name, figure.name !== 'q' && kept ? before : figure.start]
    }),
  )
  const place = kind.figures.some((figure) => figure.name === 'hz') ? { hz } : {}
  return { ...figures, kind: kind.kind, ...place, on: before?.on ?? true } as Move
}

/** A stretch of the song with a name. */
export interface Passage {
  readonly id: string
  readonly name: string
  readonly startS: number
  readonly endS: number
}

type Times = NonNullable<Move['times_s']>

/** Return times with a passage added (what touches becomes one) or taken out. */
export function timesWith(times: Times, passage: { startS: number; endS: number }, wanted: boolean): Times {
  const { startS, endS } = passage
  const others = times.flatMap(([start, end]): Times => (end < startS || start > endS ? [[start, end]] : []))
  const touching = times.filter(([start, end]) => end >= startS && start <= endS)
  const kept: Times = wanted
    ? [[Math.min(startS, ...touching.map(([start]) => start)), Math.max(endS, ...touching.map(([, end]) => end))]]
    : touching.flatMap(([start, end]): Times => [...(start < startS ? [[start, startS] as [number, number]] : []), ...(end > endS ? [[endS, end] as [number, number]] : [])])
  return [...others, ...kept].sort((a, b) => a[0] - b[0])
}

/** Return a move with one figure set; a cut of 6 dB per octave has no Q to choose. */
export function withFigure(move: Move, name: string, value: unknown): Move {
  const next = { ...move, [name]: value }
  return (name === 'slope_db_per_octave' && value === 6 ? { ...next, q: BUTTERWORTH_Q } : next) as Move
}

/** Return a move with the plain values of a ready-made start. */
export const startedAs = (move: Move, start: ReadyStart): Move => ({ ...move, ...start.values }) as Move

/** Tell whether a figure says anything for a move as it is: `when` names a figure that must be set, or have a value. */
export function isShown(when: string, move: Move): boolean {
  if (!when) return true
  const [name = '', value] = when.split('=')
  const is = (move as unknown as Record<string, unknown>)[name]
  return value === undefined ? is !== null && is !== undefined : String(is) === value
}

/** Tell whether a move stands in a region that is to be kept. */
export const inKeeper = (move: Move, keepers: readonly Keeper[]) => keepers.some((keeper) => placeHz(move) >= keeper.low_hz && placeHz(move) <= keeper.high_hz)
