/** Pure helpers of judging suspects. */
import type { LedgerEntry, Probe, Suspect } from '../api/client'
import { qToOctaves } from './figures'

export type SuspectAudition = 'only' | 'dip' | 'lift'
/** Held, a suspect is first made plain, then gone. */
export type Shown = SuspectAudition | 'plain-then-gone'

const SAME_OCTAVES = 60 / 1200

/** Tell whether a move of the ledger answers a suspect: its evidence names the same place and width. */
export const isAnswered = (suspect: Suspect, ledger: readonly LedgerEntry[]) =>
  ledger.some(
    ({ evidence }) =>
      evidence &&
      evidence.kind === suspect.kind &&
      Math.abs(Math.log2(evidence.hz / suspect.hz)) <= Math.max(SAME_OCTAVES, qToOctaves(suspect.q) / 2),
  )

/** What the probe is to play for a suspect, by the core's figures. */
export function probeOfSuspect({ auditions }: Suspect, how: SuspectAudition, liftDb: number): Omit<Probe, 'track_id'> {
  return {
    kind: how,
    hz: auditions.hz,
    amount_db: how === 'dip' ? auditions.dip_db : liftDb,
    width_octaves: auditions.width_octaves,
  }
}

/** Points of the small picture of evidence, frequency up, level sideways, inside width x height. */
export function evidencePath(hz: readonly number[], db: readonly number[], width: number, height: number): string {
  const low = Math.log2(hz[0] ?? 20)
  const span = Math.log2(hz.at(-1) ?? 20_000) - low || 1
  const top = Math.max(...db)
  const bottom = Math.min(...db)
  const range = Math.max(top - bottom, 12)
  return db
    .map((level, index) => {
      const x = ((level - bottom) / range) * (width - 2) + 1
      const y = height - ((Math.log2(hz[index] ?? 20) - low) / span) * height
      return `${index ? 'L' : 'M'}${x.toFixed(1)} ${y.toFixed(1)}`
    })
    .join(' ')
}
