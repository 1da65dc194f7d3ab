import { describe, expect, it } from 'vitest'
import type { RoundRow, RoundView, SessionState } from '../api/client'
import { answered, carriedOver, inOrder, putRight, reportOf, sureRows } from './round'

const row = (id: string, more: Partial<RoundRow> = {}): RoundRow =>
  ({
    id,
    kind: 'suspect',
    status: 'to judge',
    weight: 1,
    strip_ids: ['a'],
    sentence: id,
    evidence: '',
    ...more,
  }) as RoundRow
const view = (rows: RoundRow[], waiting = 0) => ({ rows, waiting, of: 1, plan: null, folded_clashes: 0 }) as RoundView

describe('the round', () => {
  it('lists what is to be judged first, by weight or by track', () => {
    const rows = [
      row('done', { status: 'done', weight: 9 }),
      row('mix', { strip_ids: ['mix'], weight: 3 }),
      row('b', { strip_ids: ['b'], weight: 5 }),
      row('a', { weight: 1 }),
      row('later', { status: 'later' }),
      row('both', { strip_ids: ['a', 'b'], weight: 0 }),
    ]
    const ids = (order: 'heard' | 'track') => inOrder(rows, order, ['a', 'b']).map((one) => one.id)
    expect(ids('heard')).toEqual(['b', 'mix', 'a', 'both', 'later', 'done'])
    expect(ids('track')).toEqual(['both', 'a', 'b', 'mix', 'later', 'done'])
  })

  it('keeps what was heard before until it is heard anew', () => {
    const before = view([row('x', { change_db: 4, heard: 'plain', weight: 7 })])
    const meanwhile = carriedOver(view([row('x', { weight: 2 }), row('y')], 3), before)
    expect(meanwhile.rows.map((one) => [one.id, one.weight, one.heard])).toEqual([
      ['x', 7, 'plain'],
      ['y', 1, undefined],
    ])
    expect(carriedOver(view([row('x', { change_db: 0.1, weight: 1 })]), before).rows[0]?.weight).toBe(1)
    // Nor does one that is only being measured again become "done" for that long.
    const measured = { entries: [['a', '1'] as [string, string]], outcome: 'better' }
    const again = row('x', { ...measured, outcome: 'is being measured', is_measuring: true, status: 'done' })
    expect(carriedOver(view([again], 1), view([row('x', measured)])).rows[0]).toMatchObject({
      status: 'to judge',
      outcome: 'better',
    })
  })

  it('reports what became of what was answered, and of what nothing is known yet', () => {
    const on = (track: string, outcome: string, more: Partial<RoundRow> = {}) =>
      row(outcome, { entries: [[track, '1']], outcome, status: 'done', ...more })
    expect(reportOf([row('x')]).text).toBe('')
    const rows = [
      on('a', 'cured: 9.0 dB before, 0.0 after; more is gone than stood out'),
      on('b', 'better: 9.0 dB before, 3.0 after'),
      on('b', 'better: 8.0 dB before, 4.0 after', { is_measuring: true }),
    ]
    expect(reportOf(rows)).toEqual({
      text: '3 on 2 tracks: 1 cured, 1 better, 0 not yet, 1 being measured; more than stood out is gone at 1',
      stripIds: ['a', 'b'],
    })
  })

  it('drafts only what is sure, heard and not answered', () => {
    const heard = { confidence: 0.8, heard: 'plain' } as const
    const rows = [
      row('yes', heard),
      row('unsure', { ...heard, confidence: 0.3 }),
      row('lost', { ...heard, heard: 'lost' }),
      row('answered', { ...heard, entries: [['a', '1']] }),
      row('clash', { ...heard, kind: 'clash' }),
    ]
    expect(sureRows(rows, 0.5).map((one) => one.id)).toEqual(['yes'])
  })

  it('answers a fault of several tracks at once, and of twins once', () => {
    const strip = (id: string, twin: string | null) => ({ id, kind: 'track', twin_id: twin, ledger: [] })
    const state = { tracks: [strip('a', 't'), strip('b', 't'), strip('c', null)], groups: [], master: { id: 'mix' } }
    const suspect = { hz: 431, q: 9, kind: 'ring', sentence: 'rings', cut: { kind: 'bell' }, keeper: { low_hz: 1 } }
    const suspects = ['a', 'b', 'c'].map((strip_id) => ({ strip_id, suspect }))
    const intents = answered(row('r', { suspects } as never), 'cut', state as unknown as SessionState)
    expect(intents.map((one) => 'strip_id' in one && one.strip_id)).toEqual(['a', 'c'])
  })

  it('puts two tracks of one source right, and lets nothing start before the session', () => {
    const track = (id: string, start: number) => ({ id, kind: 'track', start_frame: start, polarity_flipped: false })
    const state = (a: number, b: number) => ({ tracks: [track('a', a), track('b', b)] }) as unknown as SessionState
    const relation = { first: 'a', second: 'b', shift_frames: 50, flipped: true }
    const pair = row('p', { kind: 'tracks', relation } as never)
    expect(putRight(pair, state(0, 80))).toMatchObject([
      { track_id: 'b', fields: { start_frame: 30, polarity_flipped: true } },
    ])
    expect(putRight(pair, state(0, 0))).toMatchObject([
      { track_id: 'b', fields: { start_frame: 0 } },
      { track_id: 'a', fields: { start_frame: 50 } },
    ])
  })
})
