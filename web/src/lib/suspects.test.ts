import { describe, expect, it } from 'vitest'
import type { LedgerEntry, Suspect } from '../api/client'
import { evidencePath, isAnswered, probeOfSuspect } from './suspects'

const suspect = (hz: number, q: number, kind = 'ring') =>
  ({ hz, q, kind, auditions: { hz, dip_db: 9.5, width_octaves: 0.3 } }) as unknown as Suspect
const answering = (hz: number, kind = 'ring') =>
  ({ id: 'e', move: {}, reason: '', evidence: { hz, kind } }) as unknown as LedgerEntry

describe('a suspect', () => {
  it('is answered by a move whose evidence is of its kind and place', () => {
    expect(isAnswered(suspect(431, 20), [answering(431)])).toBe(true)
    expect(isAnswered(suspect(431, 20), [answering(431 * 2 ** (55 / 1200))])).toBe(true)
    expect(isAnswered(suspect(431, 20), [answering(431 * 2 ** (70 / 1200))])).toBe(false)
    expect(isAnswered(suspect(431, 20), [answering(431, 'boxy')])).toBe(false)
    expect(isAnswered(suspect(431, 20), [{ ...answering(431), evidence: null }])).toBe(false)
  })

  it('that is wide is answered from further off: half its own width', () => {
    // Q 1 is 1.3885 octaves wide (references 4.4).
    expect(isAnswered(suspect(400, 1, 'boxy'), [answering(400 * 2 ** 0.69, 'boxy')])).toBe(true)
    expect(isAnswered(suspect(400, 1, 'boxy'), [answering(400 * 2 ** 0.7, 'boxy')])).toBe(false)
  })

  it('is heard at its place and width: gone by as much as it stands out, lifted by what the user has set', () => {
    expect(probeOfSuspect(suspect(431, 20), 'dip', 15)).toEqual({
      kind: 'dip',
      hz: 431,
      amount_db: 9.5,
      width_octaves: 0.3,
    })
    expect(probeOfSuspect(suspect(431, 20), 'lift', 12)).toMatchObject({ kind: 'lift', amount_db: 12 })
    expect(probeOfSuspect(suspect(431, 20), 'only', 12)).toMatchObject({ kind: 'only' })
  })

  it('is drawn with frequency up the page by octaves and level to the right', () => {
    const points = evidencePath([100, 200, 400], [-60, -30, -60], 102, 90).split(' ')
    expect(points).toEqual(['M1.0', '90.0', 'L101.0', '45.0', 'L1.0', '0.0'])
  })

  it('of next to no range is not blown up to the whole picture', () => {
    const [, , right] = evidencePath([100, 200, 400], [-60, -57, -60], 102, 90).split(' ')
    expect(right).toBe('L26.0') // 3 of at least 12 dB
  })
})
