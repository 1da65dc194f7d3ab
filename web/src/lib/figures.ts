/** Figures as people type and read them: `3.5k`, `F#5`, `740 Hz`, `-6 dB`, `0.1 oct`. */

const NAMES = ['C', 'C#', 'D', 'D#', 'E', 'F', 'F#', 'G', 'G#', 'A', 'A#', 'B'] as const
const A4_HZ = 440
const A4_MIDI = 69

export const qToOctaves = (q: number) => (2 / Math.LN2) * Math.asinh(1 / (2 * q))
export const octavesToQ = (octaves: number) => 1 / (2 * Math.sinh((Math.LN2 / 2) * octaves))
export const midiToHz = (midi: number) => A4_HZ * 2 ** ((midi - A4_MIDI) / 12)

export function noteOfHz(hz: number): { name: string; cents: number } {
  const midi = A4_MIDI + 12 * Math.log2(hz / A4_HZ)
  const nearest = Math.round(midi)
  return {
    name: `${NAMES[((nearest % 12) + 12) % 12]}${Math.floor(nearest / 12) - 1}`,
    cents: Math.round(100 * (midi - nearest)),
  }
}

const number = (text: string): number | null => {
  const cleaned = text.trim().replace('−', '-').replace(',', '.')
  return /^[+-]?(\d+\.?\d*|\.\d+)$/.test(cleaned) ? Number(cleaned) : null
}

/** Read a frequency: a number, with Hz, kHz or k, or a note name with cents; null for anything else. */
export function parseHz(text: string): number | null {
  const note = /^\s*([a-g])\s*([#♯b♭]?)\s*(-?\d)\s*(?:([+-]\s*\d+)\s*(?:ct|cents?)?)?\s*$/i.exec(text)
  if (note) {
    const step = NAMES.indexOf(note[1]?.toUpperCase() as (typeof NAMES)[number])
    const shift = note[2] === '' || note[2] === undefined ? 0 : '#♯'.includes(note[2]) ? 1 : -1
    const cents = note[4] ? Number(note[4].replace(/\s/g, '')) : 0
    return midiToHz(step + shift + 12 * (Number(note[3]) + 1) + cents / 100)
  }
  const match = /^(.*?)\s*(k\s*hz|khz|k|hz)?\s*$/i.exec(text)
  const value = match ? number(match[1] ?? '') : null
  if (value === null) return null
  return match?.[2]?.toLowerCase().startsWith('k') ? value * 1000 : value
}

export function parseDb(text: string): number | null {
  return number(text.replace(/\s*db\s*$/i, ''))
}

/** Read a Q, or a width in octaves as the other way to say it. */
export function parseQ(text: string): number | null {
  const octaves = /^(.*?)\s*oct(?:aves?|\.)?\s*$/i.exec(text)
  if (octaves) {
    const value = number(octaves[1] ?? '')
    return value !== null && value > 0 ? octavesToQ(value) : null
  }
  return number(text.replace(/^\s*q\s*/i, ''))
}

export function formatHz(hz: number): string {
  if (hz >= 10_000) return `${(hz / 1000).toFixed(2)} kHz`
  if (hz >= 1000) return `${(hz / 1000).toFixed(3)} kHz`
  return `${hz.toFixed(1)} Hz`
}

/** Short label for a scale. */
export const tickHz = (hz: number) => (hz >= 1000 ? `${+(hz / 1000).toFixed(1)}k` : `${+hz.toFixed(0)}`)

export function formatDb(db: number, digits = 1): string {
  const rounded = db.toFixed(digits)
  return `${Number(rounded) > 0 ? '+' : Number(rounded) < 0 ? '−' : ''}${Math.abs(Number(rounded)).toFixed(digits)} dB`
}

/** A sentence whose figures keep their units on the same line. */
export const unbroken = (sentence: string) => sentence.replace(/(\d) (?=%|k?Hz\b|dB\b|m?s\b)/g, '$1\u00a0')

export function formatTime(seconds: number): string {
  const minutes = Math.floor(seconds / 60)
  return `${minutes}:${(seconds - 60 * minutes).toFixed(1).padStart(4, '0')}`
}

/** The same for a scale: no tenths where there are none. */
export const tickTime = (seconds: number) => formatTime(seconds).replace(/\.0$/, '')

/** Pan from -1 (left) to 1 (right), said in hundredths and a side. */
export function formatPan(pan: number): string {
  const part = Math.round(Math.abs(pan) * 100)
  return part === 0 ? 'centre' : `${part} ${pan < 0 ? 'left' : 'right'}`
}

export function parsePan(text: string): number | null {
  if (/^\s*c(entre|enter)?\s*$/i.test(text)) return 0
  const match = /^\s*(\d+(?:\.\d+)?)\s*(l(?:eft)?|r(?:ight)?)\s*$/i.exec(text)
  if (match) return (Number(match[1]) / 100) * (match[2]?.toLowerCase().startsWith('l') ? -1 : 1)
  const value = number(text)
  return value === null ? null : value / 100
}

export function formatFigure(unit: string, value: number): string {
  if (unit === 'Hz') return formatHz(value)
  if (unit === 'dB') return formatDb(value)
  if (unit === 'Q') return value.toPrecision(3)
  if (unit === 'pan') return formatPan(value)
  if (unit === 's') return `${+value.toFixed(3)} s`
  if (unit === ':1') return `${+value.toFixed(2)}:1`
  return `${+value.toFixed(unit === 'B' ? 5 : 2)} ${unit}`.trim()
}

export function parseFigure(unit: string, text: string): number | null {
  if (unit === 'Hz') return parseHz(text)
  if (unit === 'dB') return parseDb(text)
  if (unit === 'Q') return parseQ(text)
  if (unit === 'pan') return parsePan(text)
  if (unit === 's') return number(text.replace(/\s*s(ec(onds?)?)?\s*$/i, ''))
  const end = text.trim().toLowerCase().endsWith(unit.toLowerCase()) ? unit.length : 0
  return number(end ? text.trim().slice(0, -end) : text)
}

/** One step of the arrow keys: finer with shift. Frequencies and Q step by ratio, so that steps sound equal. */
export function stepFigure(unit: string, value: number, direction: 1 | -1, fine: boolean): number {
  if (unit === 'Hz') return value * 2 ** ((direction * (fine ? 1 : 10)) / 1200)
  if (unit === 'Q') return value * (fine ? 1.02 : 1.1) ** direction
  if (unit === 'ms' || unit === 'ct' || unit === ':1') return +(value * (fine ? 1.02 : 1.1) ** direction).toPrecision(3)
  if (unit === '') return Math.round(value + direction)
  if (unit === '%') return value + direction * (fine ? 1 : 5)
  if (unit === 'B') return value + direction * (fine ? 0.00001 : 0.0001)
  if (unit === 'pan') return value + direction * (fine ? 0.01 : 0.05)
  if (unit === 's') return value + direction * (fine ? 0.001 : 0.01)
  return value + direction * (fine ? 0.1 : 0.5)
}

/** A size on the disk. */
export const formatBytes = (bytes: number) =>
  bytes < 1e9 ? `${(bytes / 1e6).toFixed(bytes < 1e7 ? 1 : 0)} MB` : `${(bytes / 1e9).toFixed(2)} GB`
