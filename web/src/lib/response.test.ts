import { describe, expect, it } from 'vitest'
import type { LedgerEntry, Responses } from '../api/client'
import { atFullDepth, atThisMoment } from './response'

const AXIS = [100, 200, 400, 800]
const known: Responses = {
  steady_db: [-1, 0, 0, 0],
  moving: [{ index: 1, full_db: [0, -6, -12, 0], extent_db: -12 }],
  without_linear_phase: [],
  held_at_limit: [],
}
const ledger = [{ id: 'still' }, { id: 'moves' }, { id: 'shaves' }] as unknown as LedgerEntry[]

describe('what moves do', () => {
  it('at their full depth is what always acts and all that comes and goes', () => {
    expect(atFullDepth(known)).toEqual([-1, -6, -12, 0])
    expect(atFullDepth({ ...known, moving: [] })).toBeNull()
  })

  it('at one moment goes with the gain of each', () => {
    const half = [{ entry_id: 'moves', level_db: -20, gain_db: -6, bands: [] }]
    expect(atThisMoment(known, ledger, half, AXIS)).toEqual([0, -3, -6, 0])
    expect(atThisMoment(known, ledger, [], AXIS)).toEqual([0, 0, 0, 0])
    expect(atThisMoment(known, ledger, [{ entry_id: 'gone', level_db: null, gain_db: -6, bands: [] }], AXIS)).toEqual([
      0, 0, 0, 0,
    ])
  })

  it('at one moment counts every band of an adaptive move, straight in between', () => {
    const bands: [number, number][] = [
      [150, 0],
      [250, -4],
      [350, -4],
      [450, 0],
    ]
    const shaving = [{ entry_id: 'shaves', level_db: null, gain_db: -4, bands }]
    expect(atThisMoment(known, ledger, shaving, AXIS)).toEqual([0, -2, -2, 0])
    const both = [...shaving, { entry_id: 'moves', level_db: 0, gain_db: -12, bands: [] }]
    expect(atThisMoment(known, ledger, both, AXIS)).toEqual([0, -8, -14, 0])
  })
})
