/** Scales of the bench: frequency up the page (logarithmic), time across, level sideways. */

export const LOWEST_HZ = 20
export const HIGHEST_HZ = 20_000

export interface FrequencyView {
  readonly lowHz: number
  readonly highHz: number
}

export interface TimeView {
  readonly startS: number
  readonly endS: number
}

export const wholeAxis: FrequencyView = { lowHz: LOWEST_HZ, highHz: HIGHEST_HZ }

/** Pixels from the top of a lane of a height to a frequency. */
export function yOfHz(hz: number, view: FrequencyView, height: number): number {
  return height * (1 - Math.log2(hz / view.lowHz) / Math.log2(view.highHz / view.lowHz))
}

export function hzOfY(y: number, view: FrequencyView, height: number): number {
  const hz = view.lowHz * 2 ** ((1 - y / height) * Math.log2(view.highHz / view.lowHz))
  return Math.min(Math.max(hz, LOWEST_HZ), HIGHEST_HZ)
}

/** Zoom by a factor (below 1 zooms in) around a frequency that keeps its place, within 20 Hz-20 kHz. */
export function zoomFrequency(view: FrequencyView, aroundHz: number, factor: number): FrequencyView {
  const octaves = Math.log2(view.highHz / view.lowHz)
  const wanted = Math.min(Math.max(octaves * factor, 0.5), Math.log2(HIGHEST_HZ / LOWEST_HZ))
  const below = (Math.log2(aroundHz / view.lowHz) / octaves) * wanted
  return fitFrequency(aroundHz / 2 ** below, wanted)
}

export function scrollFrequency(view: FrequencyView, octavesUp: number): FrequencyView {
  return fitFrequency(view.lowHz * 2 ** octavesUp, Math.log2(view.highHz / view.lowHz))
}

function fitFrequency(lowHz: number, octaves: number): FrequencyView {
  const highest = HIGHEST_HZ / 2 ** octaves
  const low = Math.min(Math.max(lowHz, LOWEST_HZ), highest)
  return { lowHz: low, highHz: Math.min(low * 2 ** octaves, HIGHEST_HZ) }
}

export function xOfTime(seconds: number, view: TimeView, width: number): number {
  return ((seconds - view.startS) / (view.endS - view.startS)) * width
}

export function timeOfX(x: number, view: TimeView, width: number): number {
  return view.startS + (x / width) * (view.endS - view.startS)
}

export function zoomTime(view: TimeView, aroundS: number, factor: number, songS: number): TimeView {
  const span = Math.min(Math.max((view.endS - view.startS) * factor, 0.25), songS)
  const part = (aroundS - view.startS) / (view.endS - view.startS)
  return fitTime(aroundS - part * span, span, songS)
}

export function scrollTime(view: TimeView, bySeconds: number, songS: number): TimeView {
  return fitTime(view.startS + bySeconds, view.endS - view.startS, songS)
}

function fitTime(startS: number, span: number, songS: number): TimeView {
  const start = Math.min(Math.max(startS, 0), Math.max(songS - span, 0))
  return { startS: start, endS: start + span }
}

interface Turn {
  readonly deltaX: number
  readonly deltaY: number
  readonly ctrlKey: boolean
  readonly shiftKey: boolean
}
/** Which way a wheel is turned: −1, 0 or 1. */
export const stepOf = (turn: Turn) =>
  Math.sign(Math.abs(turn.deltaY) >= Math.abs(turn.deltaX) ? turn.deltaY : turn.deltaX)

/** A view after a turn of the wheel: up and down; with Shift in time; with Ctrl closer or wider, with both in time. */
export function turned(
  turn: Turn,
  view: { time: TimeView; frequency: FrequencyView },
  atS: number,
  atHz: number,
  songS: number,
): { time: TimeView; frequency: FrequencyView } {
  const step = stepOf(turn)
  const { time, frequency } = view
  if (!step) return view
  if (turn.ctrlKey && turn.shiftKey) return { ...view, time: zoomTime(time, atS, step > 0 ? 1.25 : 0.8, songS) }
  if (turn.ctrlKey) return { ...view, frequency: zoomFrequency(frequency, atHz, step > 0 ? 1.2 : 1 / 1.2) }
  if (turn.shiftKey) return { ...view, time: scrollTime(time, step * 0.12 * (time.endS - time.startS), songS) }
  const octaves = Math.log2(frequency.highHz / frequency.lowHz)
  return { ...view, frequency: scrollFrequency(frequency, -step * 0.08 * octaves) }
}

/** Levels of the spectrum lane: quiet at the left, loud at the right. */
export const LEVEL_LOW_DB = -108
export const LEVEL_HIGH_DB = 0

export const xOfLevel = (db: number, width: number) =>
  ((Math.min(Math.max(db, LEVEL_LOW_DB), LEVEL_HIGH_DB) - LEVEL_LOW_DB) / (LEVEL_HIGH_DB - LEVEL_LOW_DB)) * width

/** Frequencies that get a line and a label, fewer when zoomed out. */
export function frequencyTicks(view: FrequencyView): number[] {
  const octaves = Math.log2(view.highHz / view.lowHz)
  const steps =
    octaves > 5
      ? [1, 2, 5]
      : octaves > 2
        ? [1, 1.5, 2, 3, 4, 5, 6, 8]
        : [1, 1.1, 1.2, 1.3, 1.4, 1.5, 1.6, 1.8, 2, 2.2, 2.5, 2.8, 3, 3.5, 4, 4.5, 5, 5.5, 6, 7, 8, 9]
  return [10, 100, 1000, 10_000]
    .flatMap((decade) => steps.map((step) => step * decade))
    .filter((hz) => hz >= view.lowHz && hz <= view.highHz)
}

const TICK_PX = 48
const MOST_TICKS = 9
/** Times that get a tick: about eight across, fewer in a narrow lane, at round steps. */
export function timeTicks(view: TimeView, width: number): number[] {
  const most = Math.min(MOST_TICKS, Math.max(width / TICK_PX, 1))
  const steps = [0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800]
  const step = steps.find((candidate) => (view.endS - view.startS) / candidate <= most) ?? 3600
  const first = Math.ceil(view.startS / step)
  const last = Math.floor(view.endS / step)
  return Array.from({ length: Math.max(last - first + 1, 0) }, (_, index) => (first + index) * step)
}
