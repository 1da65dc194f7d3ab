/** Pure helpers of the Ensemble: pictures of columns, decisions on the right of way. */
import type {
  ClashView,
  ColumnView,
  EnsembleView,
  LedgerEntry,
  MoveKind,
  PlannedColumn,
  RegionRule,
  RightOfWay,
  SessionState,
} from '../api/client'
import { yOfHz, type FrequencyView } from './axis'
import { kindOf } from './moves'

/** (bands, times) bytes, the lowest band first. */
export interface BandPicture {
  readonly ink: Uint8Array
  readonly hidden: Uint8Array
  readonly by: Uint8Array
  /** Which part is heard that is hidden without what is tried. */
  readonly freed: Uint8Array | null
}

/** A column, or what it would be with something that is tried. */
export type ShownColumn = ColumnView & { readonly freed?: string }

export const NOBODY = 255
/** Of 255: what is hardly freed is not shown, and from a quarter on all is alike. */
const LEAST_FREED = 8
const FREED_ALPHA = 4

const bytes = (text: string) => Uint8Array.from(atob(text), (letter) => letter.charCodeAt(0))

/** Unpack a column's pictures: as it is now, or without the moves by which tracks yield. */
export function pictureOf(column: ShownColumn, now: boolean): BandPicture {
  return {
    ink: bytes(now ? column.ink_now : column.ink),
    hidden: bytes(now ? column.hidden_now : column.hidden),
    by: bytes(column.by),
    freed: column.freed === undefined ? null : bytes(column.freed),
  }
}

/** A column as it would be with the plan's moves. */
export function asPlanned(column: ColumnView, planned: readonly PlannedColumn[]): ShownColumn {
  const one = planned.find(({ id }) => id === column.id)
  return one ? { ...column, ink_now: one.ink, hidden_now: one.hidden, freed: one.freed } : column
}

/** Which band a frequency lies in; -1 beyond the model. */
export function bandOfHz(edges: readonly number[], hz: number): number {
  const above = edges.findIndex((edge) => edge > hz)
  return above <= 0 ? -1 : above - 1
}

/** Alphas for a picture `height` pixels high and one pixel a time step wide: ink, where it is hidden (0 or 255), and
 * where something tried frees it. */
export function rasterOf(
  picture: BandPicture,
  edges: readonly number[],
  nTimes: number,
  view: FrequencyView,
  height: number,
  hiddenFrom: number,
): { ink: Uint8Array; hidden: Uint8Array; freed: Uint8Array } {
  const ink = new Uint8Array(nTimes * height)
  const hidden = new Uint8Array(nTimes * height)
  const freed = new Uint8Array(nTimes * height)
  for (let band = 0; band < edges.length - 1; band++) {
    const top = Math.max(Math.round(yOfHz(edges[band + 1] ?? 0, view, height)), 0)
    const bottom = Math.min(Math.round(yOfHz(edges[band] ?? 0, view, height)), height)
    for (let time = 0; time < nTimes; time++) {
      const level = picture.ink[band * nTimes + time] ?? 0
      const lost = (picture.hidden[band * nTimes + time] ?? 0) >= hiddenFrom ? 255 : 0
      const won = picture.freed?.[band * nTimes + time] ?? 0
      for (let y = top; y < bottom; y++) {
        ink[y * nTimes + time] = level
        hidden[y * nTimes + time] = lost
        freed[y * nTimes + time] = won >= LEAST_FREED ? Math.min(FREED_ALPHA * won, 255) : 0
      }
    }
  }
  return { ink, hidden, freed }
}

/** Mean ink of every band, 0..1: how loud a track is there on the whole. */
export function meanInk(picture: BandPicture, nTimes: number): number[] {
  return Array.from({ length: Math.floor(picture.ink.length / Math.max(nTimes, 1)) }, (_, band) => {
    let sum = 0
    for (let time = 0; time < nTimes; time++) sum += picture.ink[band * nTimes + time] ?? 0
    return sum / nTimes / 255
  })
}

/** Return an order with one id moved to the place of another. */
export function moved(order: readonly string[], id: string, to: number): string[] {
  const rest = order.filter((one) => one !== id)
  return [...rest.slice(0, Math.max(to, 0)), id, ...rest.slice(Math.max(to, 0))]
}

/** Return the rules for two tracks. */
export const rulesFor = (rights: RightOfWay | undefined, one: string, other: string): RegionRule[] =>
  (rights?.exceptions ?? []).filter(
    (rule) => [rule.one, rule.other].includes(one) && [rule.one, rule.other].includes(other),
  )

/** The rule that a decision on a clash makes. */
export const ruleOf = (clash: ClashView, first: string | null): RegionRule => ({
  one: clash.hidden,
  other: clash.by ?? '',
  low_hz: Math.max(clash.low_hz, 20),
  high_hz: Math.min(clash.high_hz, 20_000),
  first,
})

/** A move of the whole session, with where it stands. */
export interface RegisteredMove {
  readonly stripId: string
  readonly stripName: string
  readonly entry: LedgerEntry
  readonly stripOn: boolean
}

export function allMoves(session: SessionState): RegisteredMove[] {
  return [...session.tracks, ...session.groups, session.master].flatMap((strip) =>
    strip.ledger.map((entry) => ({
      stripId: strip.id,
      stripName: strip.name,
      entry,
      stripOn: strip.ledger_on ?? true,
    })),
  )
}

export type MoveFilter = 'all' | 'on' | 'off' | 'cuts' | 'dynamic' | 'yields'

export function isListed(
  kinds: readonly MoveKind[],
  { entry, stripName }: RegisteredMove,
  filter: MoveFilter,
  search: string,
): boolean {
  const { move } = entry
  const isSteady = kindOf(kinds, move)?.family === 'static'
  const fits = {
    all: true,
    on: move.on !== false,
    off: move.on === false,
    yields: Boolean(entry.clash),
    dynamic: !isSteady,
    cuts: isSteady,
  }[filter]
  const text = `${stripName} ${move.kind.replaceAll('-', ' ')} ${entry.reason ?? ''}`.toLowerCase()
  return (
    fits &&
    search
      .toLowerCase()
      .split(/\s+/)
      .every((word) => text.includes(word))
  )
}

/** Columns in right-of-way order. */
export const orderedColumns = (view: EnsembleView): ColumnView[] =>
  (view.order ?? []).flatMap((id) => (view.columns ?? []).filter((column) => column.id === id))
