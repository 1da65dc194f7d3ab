import { describe, expect, it } from 'vitest'
import { runsOf, saysOfPlace, withoutRun, type Place } from './places'

const PLACES: Place[] = [
  [900, 0],
  [1000, 6],
  [1100, 0],
  [2000, 0],
  [2100, 3],
  [2200, 8],
  [2300, 0],
]

describe('learned places', () => {
  it('stand in runs that begin and end at 0 dB', () => {
    const runs = runsOf(PLACES)
    expect(runs.map((run) => [run.lowHz, run.topHz, run.topDb, run.highHz])).toEqual([
      [900, 1000, 6, 1100],
      [2000, 2200, 8, 2300],
    ])
    expect(runsOf([])).toEqual([])
    const left = runs.map((run) => withoutRun(PLACES, run))
    expect(left.map(runsOf).map((rest) => rest.map((run) => run.topHz))).toEqual([[2200], [1000]])
    const nothing = runsOf(left[0] ?? []).reduce(withoutRun, left[0] ?? [])
    expect(nothing.every(([, db]) => db === 0)).toBe(true)
    expect(nothing.length).toBeGreaterThan(1) // it has listened, and knows it
  })

  it('say what they do, and how sure that is', () => {
    const curve = { hz: [1000, 1100, 1210, 1331], db: [7.2, -3, 0.1, 9], sure: [0.9, 0.5, 0.8, 0.1], sure_from: 0.6 }
    expect([1000, 1100, 1210, 1331, 5000].map((hz) => saysOfPlace(curve, hz))).toEqual([
      'this place lifts what passes it by 7 dB, sure',
      'this place lowers what passes it by 3 dB, not sure',
      'this place leaves what passes it as it is, sure',
      'too little passed this place to know',
      '',
    ])
  })
})
