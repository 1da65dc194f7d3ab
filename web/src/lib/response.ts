/** What the moves of a ledger do at the axis' frequencies, from what the core has told of each. */
import type { FromMonitor, LedgerEntry, Responses } from '../api/client'

type MoveGain = Extract<FromMonitor, { type: 'gains' }>['moves'][number]

/** All moves at their full depth; null where none comes and goes. */
export function atFullDepth(known: Responses): number[] | null {
  if (!known.moving.length) return null
  return known.steady_db.map((db, at) => known.moving.reduce((total, one) => total + (one.full_db[at] ?? 0), db))
}

/** What the dynamic and adaptive moves of a ledger do at one moment, in dB. */
export function atThisMoment(
  known: Responses,
  ledger: readonly LedgerEntry[],
  moves: readonly MoveGain[],
  axisHz: readonly number[],
): number[] {
  const sum = new Array<number>(known.steady_db.length).fill(0)
  for (const { entry_id: id, gain_db: gain, bands } of moves) {
    const index = ledger.findIndex((entry) => entry.id === id)
    const moving = known.moving.find((one) => one.index === index)
    if (moving?.extent_db)
      moving.full_db.forEach((db, at) => (sum[at] = (sum[at] ?? 0) + (db * gain) / moving.extent_db))
    if (bands?.length) addBands(sum, bands as [number, number][], axisHz)
  }
  return sum
}

/** Add what an adaptive move shaves off each of its bands, straight in between. */
function addBands(sum: number[], bands: readonly (readonly [number, number])[], axisHz: readonly number[]) {
  let band = 0
  axisHz.forEach((hz, at) => {
    while (band < bands.length - 2 && (bands[band + 1]?.[0] ?? 0) < hz) band += 1
    const [lowHz = 1, lowDb = 0] = bands[band] ?? []
    const [highHz = 1, highDb = 0] = bands[band + 1] ?? []
    if (hz >= lowHz && hz <= highHz)
      sum[at] = (sum[at] ?? 0) + lowDb + ((highDb - lowDb) * (hz - lowHz)) / Math.max(highHz - lowHz, 1)
  })
}
