import { describe, expect, it } from 'vitest'
import {
  formatDb,
  formatFigure,
  formatHz,
  noteOfHz,
  octavesToQ,
  parseFigure,
  parseHz,
  parseQ,
  qToOctaves,
  stepFigure,
  unbroken,
} from './figures'

describe('figures as people type them', () => {
  it('reads frequencies with units, and notes with cents', () => {
    expect(parseHz('3.5k')).toBe(3500)
    expect(parseHz('740 Hz')).toBe(740)
    expect(parseHz('2,5 kHz')).toBe(2500)
    expect(parseHz(' 431.25 ')).toBe(431.25)
    // Twelve-tone equal temperament, A4 = 440 Hz (ISO 16:1975, from memory)
    expect(parseHz('A4')).toBeCloseTo(440, 9)
    expect(parseHz('F#5')).toBeCloseTo(739.9888, 3)
    expect(parseHz('gb5')).toBeCloseTo(739.9888, 3)
    expect(parseHz('E2 +50 ct')).toBeCloseTo(82.4069 * 2 ** (50 / 1200), 3)
    expect(parseHz('c-1')).toBeCloseTo(8.1758, 3)
  })

  it('refuses what is no figure', () => {
    for (const text of ['', 'k', 'H4', '1e9', '12 dB', '3.5.1', '--3', 'NaN', 'Infinity'])
      expect(parseHz(text)).toBeNull()
    expect(parseFigure('dB', 'loud')).toBeNull()
    expect(parseQ('-0.1 oct')).toBeNull()
    expect(parseFigure('pan', '30 up')).toBeNull()
  })

  it('reads gain, width, pan and seconds', () => {
    expect(parseFigure('dB', '-6 dB')).toBe(-6)
    expect(parseFigure('dB', '−4.5')).toBe(-4.5)
    expect(parseFigure('dB', '+3dB')).toBe(3)
    expect(parseFigure('Q', '12')).toBe(12)
    expect(parseFigure('pan', '30 left')).toBe(-0.3)
    expect(parseFigure('pan', 'C')).toBe(0)
    expect(parseFigure('s', '1.25 s')).toBe(1.25)
  })

  it('turns octaves into Q and back as the tables do', () => {
    // Q = sqrt(2^N)/(2^N - 1): 1/4 octave 5.7636, 1/3 4.3185, 1 octave 1.4142, 2 octaves 0.6667
    for (const [octaves, q] of [
      [0.25, 5.7636],
      [1 / 3, 4.3185],
      [1, 1.4142],
      [2, 0.6667],
    ] as const) {
      expect(octavesToQ(octaves)).toBeCloseTo(q, 4)
      expect(qToOctaves(q)).toBeCloseTo(octaves, 3)
    }
    expect(parseQ('0.1 oct')).toBeCloseTo(octavesToQ(0.1), 9)
  })

  it('writes what it reads', () => {
    for (const [unit, value] of [
      ['Hz', 431.2],
      ['Hz', 3517],
      ['Hz', 12340],
      ['dB', -6.5],
      ['Q', 5.76],
      ['pan', -0.35],
      ['s', 3.6],
    ] as const) {
      const again = parseFigure(unit, formatFigure(unit, value))
      expect(again).not.toBeNull()
      expect(again).toBeCloseTo(value, unit === 'Hz' ? -1 : 2)
    }
    expect(formatDb(-0.04)).toBe('0.0 dB')
    expect(formatHz(738)).toBe('738.0 Hz')
  })

  it('keeps a figure and its unit together', () => {
    expect(unbroken('voice gained 31 % there; 1.20 kHz, -6 dB')).toBe(
      'voice gained 31\u00a0% there; 1.20\u00a0kHz, -6\u00a0dB',
    )
    expect(unbroken('at 5 places of 3 strokes')).toBe('at 5 places of 3 strokes')
  })

  it('names notes with cents', () => {
    expect(noteOfHz(440)).toEqual({ name: 'A4', cents: 0 })
    expect(noteOfHz(431)).toEqual({ name: 'A4', cents: -36 })
    expect(noteOfHz(27.5)).toEqual({ name: 'A0', cents: 0 })
  })

  it('steps by ratios where the ear does', () => {
    expect(stepFigure('Hz', 440, 1, false)).toBeCloseTo(440 * 2 ** (10 / 1200), 6)
    expect(stepFigure('Hz', stepFigure('Hz', 440, 1, true), -1, true)).toBeCloseTo(440, 9)
    expect(stepFigure('dB', -6, -1, false)).toBe(-6.5)
  })

  it('knows the units of every figure that moves have', () => {
    for (const [unit, value, text] of [
      ['ms', 8, '8 ms'],
      [':1', 4, '4:1'],
      ['%', 90, '90 %'],
      ['ct', 40, '40 ct'],
      ['dBFS', -42, '-42 dBFS'],
      ['B', 0.0001, '0.0001 B'],
      ['', 12, '12'],
    ] as const) {
      expect(formatFigure(unit, value)).toBe(text)
      expect(parseFigure(unit, text)).toBeCloseTo(value)
      expect(parseFigure(unit, `${value}`)).toBeCloseTo(value)
      expect(parseFigure(unit, 'loud')).toBeNull()
    }
    expect(stepFigure('ms', 8, 1, false)).toBeCloseTo(8.8)
    expect(stepFigure('', 8, -1, false)).toBe(7)
    expect(stepFigure('%', 50, 1, true)).toBe(51)
  })
})
