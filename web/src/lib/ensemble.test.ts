import { describe, expect, it } from 'vitest'
import type { ClashView, ColumnView, Move, SessionState, MoveKind } from '../api/client'
import { wholeAxis } from './axis'
import {
  allMoves,
  bandOfHz,
  isListed,
  meanInk,
  moved,
  pictureOf,
  rasterOf,
  ruleOf,
  rulesFor,
  type MoveFilter,
} from './ensemble'

const packed = (...bytes: number[]) => btoa(String.fromCharCode(...bytes))
const edges = [100, 200, 400]

describe('pictures', () => {
  const column = {
    ink: packed(10, 20, 200, 100),
    hidden: packed(0, 255, 100, 200),
    by: packed(1, 1, 2, 255),
    ink_now: packed(1, 2, 3, 4),
    hidden_now: packed(0, 0, 0, 0),
  } as ColumnView
  it('hold bands from below, and what is hidden only where nearly half is lost', () => {
    const picture = pictureOf(column, false)
    const { ink, hidden } = rasterOf(picture, edges, 2, wholeAxis, 1000, 115)
    const row = (hz: number) => Math.round(1000 * (1 - Math.log2(hz / 20) / Math.log2(1000)))
    expect([...ink.slice(2 * row(150), 2 * row(150) + 2)]).toEqual([10, 20])
    expect([...hidden.slice(2 * row(150), 2 * row(150) + 2)]).toEqual([0, 255])
    expect([...ink.slice(2 * row(300), 2 * row(300) + 2)]).toEqual([200, 100])
    expect([...hidden.slice(2 * row(300), 2 * row(300) + 2)]).toEqual([0, 255])
    expect(ink[2 * row(1000)]).toBe(0)
    expect(meanInk(picture, 2).map((one) => Math.round(255 * one))).toEqual([15, 150])
    expect([...pictureOf(column, true).ink]).toEqual([1, 2, 3, 4])
  })
  it('know their bands', () => {
    expect([50, 100, 199, 250, 400, 900].map((hz) => bandOfHz(edges, hz))).toEqual([-1, 0, 0, 1, -1, -1])
  })
})

describe('right of way', () => {
  it('is an order that can be changed', () => {
    expect(moved(['a', 'b', 'c'], 'c', 0)).toEqual(['c', 'a', 'b'])
    expect(moved(['a', 'b', 'c'], 'a', 1)).toEqual(['b', 'a', 'c'])
    expect(moved(['a', 'b', 'c'], 'b', 9)).toEqual(['a', 'c', 'b'])
  })
  it('has rules, of which those for two tracks are told whichever is named first', () => {
    const clash = { hidden: 'a', by: 'b', low_hz: 12, high_hz: 400 } as ClashView
    expect(ruleOf(clash, 'a')).toEqual({ one: 'a', other: 'b', low_hz: 20, high_hz: 400, first: 'a' })
    const other = { one: 'b', other: 'c', low_hz: 50, high_hz: 90, first: 'c' }
    const rights = { order: [], exceptions: [ruleOf(clash, 'a'), other] }
    expect(rulesFor(rights, 'b', 'a')).toEqual([ruleOf(clash, 'a')])
  })
})

describe('the register of moves', () => {
  const entry = (id: string, move: Partial<Move>, reason = '', clash: object | null = null) => ({
    id,
    move: { kind: 'bell', on: true, ...move },
    reason,
    clash,
  })
  const session = {
    tracks: [
      {
        id: 't',
        name: 'Oboe',
        ledger: [
          entry('1', {}, 'ring at F#5'),
          entry('2', { kind: 'dynamic-bell', on: false }, 'Gives way to Voice', {}),
        ],
      },
    ],
    groups: [],
    master: { id: 'm', name: 'Mix', ledger: [entry('3', { kind: 'plane' })], ledger_on: false },
  } as unknown as SessionState
  const kinds = [
    { kind: 'bell', family: 'static' },
    { kind: 'dynamic-bell', family: 'dynamic' },
    { kind: 'plane', family: 'adaptive' },
  ] as MoveKind[]
  const found = (filter: MoveFilter, search = '') =>
    allMoves(session)
      .filter((one) => isListed(kinds, one, filter, search))
      .map((one) => one.entry.id)
  it('lists, filters and searches all of them', () => {
    expect(found('all')).toEqual(['1', '2', '3'])
    expect(found('on')).toEqual(['1', '3'])
    expect(found('off')).toEqual(['2'])
    expect(found('yields')).toEqual(['2'])
    expect(found('dynamic')).toEqual(['2', '3'])
    expect(found('cuts', 'oboe f#5')).toEqual(['1'])
    expect(found('all', 'dynamic bell voice')).toEqual(['2'])
    expect(allMoves(session).at(-1)?.stripOn).toBe(false)
  })
})
