/** Which pictures of the spectrogram's pyramid a view needs, and where each is drawn. */
import { HIGHEST_HZ, LOWEST_HZ, type FrequencyView, type TimeView } from './axis'

const FINEST_HOP_FRAMES = 64
const MAX_TIME_ZOOM = 14
const MAX_FREQ_ZOOM = 5

export interface TilePlan {
  readonly timeZoom: number
  readonly column: number
  readonly freqZoom: number
  readonly row: number
  readonly x: number
  readonly y: number
  readonly width: number
  readonly height: number
}

export interface TileGrid {
  readonly columns: number
  readonly rows: number
  readonly sampleRateHz: number
}

/** Plan the pictures for a lane; `offsetS` is where the track starts in the session. */
export function planTiles(
  time: TimeView,
  freq: FrequencyView,
  width: number,
  height: number,
  grid: TileGrid,
  offsetS: number,
  lengthS: number,
): TilePlan[] {
  const framesPerPixel = ((time.endS - time.startS) * grid.sampleRateHz) / width
  const timeZoom = Math.min(Math.max(Math.floor(Math.log2(framesPerPixel / FINEST_HOP_FRAMES)), 0), MAX_TIME_ZOOM)
  const octaves = Math.log2(HIGHEST_HZ / LOWEST_HZ)
  const shown = Math.log2(freq.highHz / freq.lowHz)
  const rowsNeeded = (height * octaves) / shown
  const freqZoom = Math.min(Math.max(Math.ceil(Math.log2(rowsNeeded / grid.rows) - 0.6), 0), MAX_FREQ_ZOOM)
  const tileS = (grid.columns * FINEST_HOP_FRAMES * 2 ** timeZoom) / grid.sampleRateHz
  const parts = 2 ** freqZoom
  const pixelsPerS = width / (time.endS - time.startS)
  const first = Math.max(Math.floor((time.startS - offsetS) / tileS), 0)
  const last = Math.floor((Math.min(time.endS - offsetS, lengthS) - 1e-6) / tileS)
  const partOctaves = octaves / parts
  const firstRow = Math.max(Math.floor(Math.log2(freq.lowHz / LOWEST_HZ) / partOctaves), 0)
  const lastRow = Math.min(Math.ceil(Math.log2(freq.highHz / LOWEST_HZ) / partOctaves - 1e-6), parts) - 1
  const plans: TilePlan[] = []
  for (let column = first; column <= last; column++) {
    for (let row = firstRow; row <= lastRow; row++) {
      const topOctave = (row + 1) * partOctaves
      const tileHeight = (partOctaves / shown) * height
      plans.push({
        timeZoom,
        column,
        freqZoom,
        row,
        x: (column * tileS + offsetS - time.startS) * pixelsPerS,
        y: ((Math.log2(freq.highHz / LOWEST_HZ) - topOctave) / shown) * height,
        width: tileS * pixelsPerS,
        height: tileHeight,
      })
    }
  }
  return plans
}

/** The finest picture that still holds a whole track, and the part of it that the track fills. */
export function coarsestTimeZoom(frames: number, columns: number): { timeZoom: number; part: number } {
  const timeZoom = Math.min(Math.max(Math.ceil(Math.log2(frames / (columns * FINEST_HOP_FRAMES))), 0), MAX_TIME_ZOOM)
  return { timeZoom, part: Math.min(frames / (columns * FINEST_HOP_FRAMES * 2 ** timeZoom), 1) }
}
