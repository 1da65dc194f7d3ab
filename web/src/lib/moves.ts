/** Pure helpers of moves: where they stand, what their figures mean, and how one becomes another. */
import type { Figure, Keeper, Move, MoveKind, ReadyStart } from '../api/client'

type Kinds = readonly MoveKind[]
export type Meaning = NonNullable<Figure['means']>

export const newId = () => crypto.randomUUID().replaceAll('-', '')

export const kindOf = (kinds: Kinds, move: Move) => kinds.find((one) => one.kind === move.kind)

/** The figure of a move that means something, if it has one: its name differs from kind to kind. */
export const figureOf = (kinds: Kinds, move: Move, meaning: Meaning) =>
  kindOf(kinds, move)?.figures.find((figure) => figure.means === meaning)

const valueOf = (move: Move, figure: Figure | undefined): unknown =>
  figure && ((move as unknown as Record<string, unknown>)[figure.name] ?? figure.start)

/** What a move's figure of a meaning says; null where it has none. */
export function numberOf(kinds: Kinds, move: Move, meaning: Meaning): number | null {
  const value = valueOf(move, figureOf(kinds, move, meaning))
  return typeof value === 'number' ? value : null
}

/** Whom a move listens to; empty: itself, or it listens to nobody. */
export const keyOf = (kinds: Kinds, move: Move) => String(valueOf(move, figureOf(kinds, move, 'key')) ?? '')

/** Where a move stands on the frequency axis: in the middle of its region, or nowhere. */
export function placeHz(kinds: Kinds, move: Move): number | null {
  const [low, high] = [numberOf(kinds, move, 'low edge'), numberOf(kinds, move, 'high edge')]
  return numberOf(kinds, move, 'place') ?? (low !== null && high !== null ? Math.sqrt(low * high) : null)
}

/** Return a move with another figure of a meaning; as it is where it has none. */
export function withMeaning(kinds: Kinds, move: Move, meaning: Meaning, value: number): Move {
  const figure = figureOf(kinds, move, meaning)
  return figure ? { ...move, [figure.name]: value } : move
}

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
      const isWidth = figure.means === 'width' || figure.means === 'sharpness'
      return [figure.name, !isWidth && kept ? before : figure.start]
    }),
  )
  const move = { ...figures, kind: kind.kind, on: before?.on ?? true } as Move
  const place = figureOf([kind], move, 'place')
  const within = Math.min(Math.max(hz, place?.minimum ?? hz), place?.maximum ?? hz)
  return withMeaning([kind], move, 'place', within)
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

/** Return a move with one figure set; those that say nothing with it stand as they start. */
export function withFigure(kinds: Kinds, move: Move, name: string, value: unknown): Move {
  const next = { ...move, [name]: value } as Move
  const idle = kindOf(kinds, move)?.figures.filter((one) => one.when.startsWith(`${name}!`) && !isShown(one.when, next))
  return { ...next, ...Object.fromEntries((idle ?? []).map((one) => [one.name, one.start])) } as Move
}

/** Return a move with the plain values of a ready-made start. */
export const startedAs = (move: Move, start: ReadyStart): Move => ({ ...move, ...start.values }) as Move

/** Tell whether a figure says anything for a move: `when` names one that must be set, have a value, or not have it. */
export function isShown(when: string, move: Move): boolean {
  if (!when) return true
  const [name = '', value] = when.split(/!?=/)
  const is = (move as unknown as Record<string, unknown>)[name]
  if (value === undefined) return is !== null && is !== undefined
  return (String(is) === value) !== when.includes('!=')
}

/** Tell whether a move stands in a region that is to be kept. */
export function inKeeper(kinds: Kinds, move: Move, keepers: readonly Keeper[]) {
  const hz = placeHz(kinds, move)
  return hz !== null && keepers.some((keeper) => hz >= keeper.low_hz && hz <= keeper.high_hz)
}
