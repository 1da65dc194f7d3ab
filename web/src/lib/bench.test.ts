import { describe, expect, it } from 'vitest'
import type { Figure, Move, MoveKind, SessionState } from '../api/client'
import {
  frequencyTicks,
  hzOfY,
  scrollFrequency,
  timeTicks,
  wholeAxis,
  xOfLevel,
  yOfHz,
  zoomFrequency,
  zoomTime,
} from './axis'
import { overlaid, setGroup, setLedger, setLoop, setMove, setTrack } from './intents'
import { inKeeper, isShown, moveOfKind, placeHz, withFigure, withMeaning } from './moves'
import { placeNotes } from './margin'
import { coarsestTimeZoom, planTiles } from './tiles'

describe('the shared frequency axis', () => {
  it('runs up the page from 20 Hz to 20 kHz, an octave always as tall', () => {
    expect(yOfHz(20, wholeAxis, 600)).toBeCloseTo(600)
    expect(yOfHz(20_000, wholeAxis, 600)).toBeCloseTo(0)
    const octave = yOfHz(100, wholeAxis, 600) - yOfHz(200, wholeAxis, 600)
    expect(yOfHz(5_000, wholeAxis, 600) - yOfHz(10_000, wholeAxis, 600)).toBeCloseTo(octave)
    for (const hz of [20, 431, 19_999]) expect(hzOfY(yOfHz(hz, wholeAxis, 600), wholeAxis, 600)).toBeCloseTo(hz, 6)
  })

  it('keeps the frequency under the pointer in its place while zooming, and stays in range', () => {
    const closer = zoomFrequency(wholeAxis, 431, 0.5)
    expect(yOfHz(431, closer, 600)).toBeCloseTo(yOfHz(431, wholeAxis, 600))
    let view = closer
    for (let turn = 0; turn < 60; turn++) view = scrollFrequency(zoomFrequency(view, 300, 1.1), -1)
    expect(view.lowHz).toBeCloseTo(20)
    expect(view.highHz).toBeCloseTo(20_000)
    for (let turn = 0; turn < 60; turn++) view = zoomFrequency(view, 19_000, 0.7)
    expect(Math.log2(view.highHz / view.lowHz)).toBeCloseTo(0.5)
    expect(view.highHz).toBeLessThanOrEqual(20_000)
  })

  it('never zooms time beyond the song', () => {
    const view = zoomTime({ startS: 10, endS: 14 }, 12, 0.5, 37)
    expect(view).toEqual({ startS: 11, endS: 13 })
    expect(zoomTime(view, 11, 100, 37)).toEqual({ startS: 0, endS: 37 })
  })

  it('has more ticks when zoomed in, and levels run sideways', () => {
    expect(frequencyTicks(wholeAxis)).toContain(1000)
    expect(frequencyTicks({ lowHz: 400, highHz: 800 }).length).toBeGreaterThan(5)
    expect(timeTicks({ startS: 0, endS: 37 }, 900)).toEqual([0, 5, 10, 15, 20, 25, 30, 35])
    const threeHours = timeTicks({ startS: 0, endS: 10_800 }, 320)
    expect(threeHours).toEqual([0, 1800, 3600, 5400, 7200, 9000, 10_800])
    expect(xOfLevel(-200, 100)).toBe(0)
    expect(xOfLevel(0, 100)).toBe(100)
  })
})

describe('margin notes', () => {
  it('stand at their frequency when there is room', () => {
    const placed = placeNotes(
      [
        { id: 'a', y: 100, height: 20 },
        { id: 'b', y: 300, height: 20 },
      ],
      600,
      4,
    )
    expect(placed).toEqual([
      { id: 'a', top: 90 },
      { id: 'b', top: 290 },
    ])
  })

  it('never overlap, keep their order, and stay on the page while there is room', () => {
    let seed = 7
    const random = () => (seed = (seed * 16_807) % 2_147_483_647) / 2_147_483_647
    for (let round = 0; round < 300; round++) {
      const notes = Array.from({ length: 1 + Math.floor(random() * 14) }, (_, index) => ({
        id: `${index}`,
        y: random() * 600,
        height: 20 + random() * 20,
      }))
      const placed = placeNotes(notes, 600, 2).map(({ id, top }) => ({ top, note: notes[Number(id)] }))
      placed.forEach(({ top, note }, index) => {
        const next = placed[index + 1]
        expect(top).toBeGreaterThanOrEqual(-1e-6)
        expect(top + (note?.height ?? 0)).toBeLessThanOrEqual(600 + 1e-6)
        if (next) {
          expect(top + (note?.height ?? 0)).toBeLessThanOrEqual(next.top + 1e-6)
          expect(note?.y ?? 0).toBeLessThanOrEqual(next.note?.y ?? 0)
        }
      })
    }
  })
})

describe('pictures of the spectrogram', () => {
  const grid = { columns: 512, rows: 384, sampleRateHz: 48_000 }

  it('cover the view without gaps', () => {
    for (const [startS, endS] of [
      [0, 37.6],
      [11, 13],
      [30, 30.3],
    ] as const) {
      const plans = planTiles({ startS, endS }, { lowHz: 200, highHz: 3000 }, 520, 660, grid, 0, 37.6)
      const left = Math.min(...plans.map((plan) => plan.x))
      const right = Math.max(...plans.map((plan) => plan.x + plan.width))
      const top = Math.min(...plans.map((plan) => plan.y))
      const bottom = Math.max(...plans.map((plan) => plan.y + plan.height))
      expect(left).toBeLessThanOrEqual(0.01)
      expect(right).toBeGreaterThanOrEqual(519.9)
      expect(top).toBeLessThanOrEqual(0.01)
      expect(bottom).toBeGreaterThanOrEqual(659.9)
      expect(plans.length).toBeLessThan(30)
      // Fine enough: at most two pixels of the page for one of the picture, across.
      expect(Math.max(...plans.map((plan) => plan.width / grid.columns))).toBeLessThan(endS - startS > 1 ? 2.01 : 2.5)
    }
  })

  it('start where the track starts', () => {
    const plans = planTiles({ startS: 0, endS: 10 }, { lowHz: 20, highHz: 20_000 }, 500, 400, grid, 3.6, 4)
    expect(Math.min(...plans.map((plan) => plan.x))).toBeCloseTo(180)
  })

  it('have one that holds the whole track', () => {
    const { timeZoom, part } = coarsestTimeZoom(37.6 * 48_000, 512)
    expect(512 * 64 * 2 ** timeZoom * part).toBeCloseTo(37.6 * 48_000)
  })
})

describe('what is shown until an edit is answered', () => {
  const bell = { kind: 'bell', hz: 431, gain_db: -6 } as Move
  const entry = { id: 'e', move: bell, reason: '', evidence: null, clash: null }
  const track = (id: string, twin_id: string | null) => ({ kind: 'track', id, gain_db: 0, ledger: [entry], twin_id })
  const state = {
    name: 'A',
    tracks: [track('t', 'w'), track('u', 'w'), track('v', null)],
    groups: [{ kind: 'group', id: 'g', gain_db: 0, ledger: [] }],
    master: { kind: 'group', id: 'm', gain_db: 0, ledger: [entry], phase: 'minimum' },
  } as unknown as SessionState
  const [first, , alone] = state.tracks as [SessionState['tracks'][0], unknown, SessionState['tracks'][0]]

  it('is what was set, of the one that was set, with what was seen before', () => {
    const set = setTrack(alone, { gain_db: -3 })
    expect(set).toEqual({ do: 'set-track', track_id: 'v', fields: { gain_db: -3 }, seen: { gain_db: 0 } })
    const next = overlaid(state, [set, setGroup(state.master, { gain_db: -1 }), setLoop({ start: 1, end: 9 })])
    expect(next.tracks.map((one) => one.gain_db)).toEqual([0, 0, -3])
    expect(next.tracks[0]).toBe(state.tracks[0])
    expect([next.master.gain_db, next.loop_end_frame]).toEqual([-1, 9])
  })

  it('is of all twins where it is of their ledger, and nothing comes or goes', () => {
    const moved = setMove(first, 'e', { ...bell, hz: 500 } as Move)
    expect(moved).toMatchObject({ entry_id: 'e', seen: bell })
    expect(setMove(first, 'gone', bell)).toBeNull()
    const next = overlaid(
      state,
      [moved, setLedger(state.master, { phase: 'linear' })].filter((one) => one !== null),
    )
    expect(next.tracks.map((one) => (one.ledger[0]?.move as { hz: number }).hz)).toEqual([500, 500, 431])
    expect(next.master.phase).toBe('linear')
    expect(overlaid(state, [{ do: 'remove-track', track_id: 't' }])).toBe(state)
  })
})

describe('moves', () => {
  const figure = (name: string, start: number | null, means: Figure['means'] = null, when = ''): Figure => ({
    name,
    title: name,
    help: '',
    control: 'number',
    unit: '',
    minimum: null,
    maximum: null,
    choices: [],
    optional: false,
    empty: '',
    start,
    group: 'main',
    when,
    on_level: false,
    means,
  })
  const rest = { summary: '', family: 'static' as const, adds_only: false, starts: [] }

  it('know where a move without a frequency stands, and which figures say anything', () => {
    const edges = [figure('low_hz', 600, 'low edge'), figure('high_hz', 10_000, 'high edge')]
    const kinds: MoveKind[] = [
      { kind: 'plane', label: 'Plane', ...rest, figures: edges },
      { kind: 'bell', label: 'Bell', ...rest, figures: [figure('hz', null, 'place'), figure('gain_db', -4, 'gain')] },
      { kind: 'drive', label: 'Drive', ...rest, figures: [figure('drive_db', 0, 'amount')] },
    ] as unknown as MoveKind[]
    expect(placeHz(kinds, { kind: 'plane', low_hz: 1000, high_hz: 4000 } as Move)).toBeCloseTo(2000)
    expect(placeHz(kinds, { kind: 'bell', hz: 431 } as Move)).toBe(431)
    expect(placeHz(kinds, { kind: 'drive' } as unknown as Move)).toBeNull()
    expect(inKeeper(kinds, { kind: 'drive' } as unknown as Move, [{ low_hz: 20, high_hz: 20_000 }])).toBe(false)
    expect(withMeaning(kinds, { kind: 'bell', hz: 431 } as Move, 'gain', -9)).toEqual({
      kind: 'bell',
      hz: 431,
      gain_db: -9,
    })
    const stroke = { kind: 'dynamic-bell', trigger: 'after-stroke', key_hz: null } as Move
    expect([
      isShown('', stroke),
      isShown('trigger=after-stroke', stroke),
      isShown('trigger=sudden', stroke),
      isShown('key_hz', stroke),
      isShown('trigger!=sudden', stroke),
      isShown('trigger!=after-stroke', stroke),
    ]).toEqual([true, true, false, false, true, false])
  })

  it('keep what two kinds of move have in common', () => {
    const shelf: MoveKind = {
      kind: 'high-shelf',
      label: 'High shelf',
      ...rest,
      figures: [figure('hz', null, 'place'), figure('gain_db', -3, 'gain'), figure('q', 0.7071, 'width')],
    }
    const cut: MoveKind = {
      kind: 'low-cut',
      label: 'Low cut',
      ...rest,
      figures: [
        figure('hz', null, 'place'),
        figure('slope_db_per_octave', 24, 'slope'),
        figure('q', 0.7071, 'sharpness', 'slope_db_per_octave!=6'),
      ],
    }
    const bell = { kind: 'bell', hz: 431, gain_db: -9, q: 12, on: false } as Move
    expect(moveOfKind(shelf, 431, bell)).toEqual({ kind: 'high-shelf', hz: 431, gain_db: -9, q: 0.7071, on: false })
    expect(moveOfKind(cut, 431, bell)).toEqual({
      kind: 'low-cut',
      hz: 431,
      slope_db_per_octave: 24,
      q: 0.7071,
      on: false,
    })
    expect(withFigure([cut], { ...moveOfKind(cut, 90), q: 2 } as Move, 'slope_db_per_octave', 6)).toMatchObject({
      slope_db_per_octave: 6,
      q: 0.7071,
    })
  })
})
