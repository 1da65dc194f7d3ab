/** Pure helpers of moves: where they stand, what their figures mean, and how one becomes another. */
import type { Keeper, Move, MoveKind, ReadyStart } from '../api/client'

export const newId = () => crypto.randomUUID().replaceAll('-', '')

/** Where a move stands on the frequency axis: one without a frequency of its own, in the middle of its region. */
export const placeHz = (move: Move): number =>
  'hz' in move ? move.hz : Math.sqrt((move.low_hz ?? 20) * (move.high_hz ?? 20_000))

/** The figure of a move that says how deep it goes, if it has one. */
export const depthName = (move: Move): 'gain_db' | 'depth_db' | null =>
  'gain_db' in move ? 'gain_db' : 'depth_db' in move ? 'depth_db' : null

export const withHz = (move: Move, hz: number): Move => ('hz' in move ? { ...move, hz } : move)

const BUTTERWORTH_Q = 0.7071

/** Return a move of a kind at a frequency: its other figures as they start, or as the move before it had them. */
export function moveOfKind(kind: MoveKind, hz: number, before?: Move): Move {
  const known = (before ?? {}) as Record<string, unknown>
  const figures = Object.fromEntries(
    kind.figures.map((figure) => {
      const before = known[figure.name]
      const fits =
        typeof before === 'number' &&
        before >= (figure.minimum ?? -Infinity) &&
        before <= (figure.maximum ?? Infinity) &&
        !figure.choices.length
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
    : touching.flatMap(([start, end]): Times => [
        ...(start < startS ? [[start, startS] as [number, number]] : []),
        ...(end > endS ? [[endS, end] as [number, number]] : []),
      ])
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
export const inKeeper = (move: Move, keepers: readonly Keeper[]) =>
  keepers.some((keeper) => placeHz(move) >= keeper.low_hz && placeHz(move) <= keeper.high_hz)
