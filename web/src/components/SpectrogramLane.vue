<script setup lang="ts">
/** A spectrogram, drawn from pictures that the core computes; ink is level, or how much two of them differ. */
import { onBeforeUnmount, onMounted, ref, useTemplateRef, watch } from 'vue'
import type { Place, Shows } from '../api/analyses'
import { loadPicture, type PitchLine, type Suspect } from '../api/client'
import { timeTicks, xOfTime, yOfHz, type FrequencyView, type TimeView } from '../lib/axis'
import { colours, oncePerFrame, onRepaint, paintFrequencyLines, surfaceOf, type Surface } from '../lib/canvas'
import { tickTime } from '../lib/figures'
import { planTiles, type TileGrid, type TilePlan } from '../lib/tiles'

const props = defineProps<{
  stripId: string
  shows: Shows
  /** Changes whenever the pictures may be others. */
  content: string
  address: (stripId: string, shows: Shows, place: Place, signal: AbortSignal) => Promise<string>
  /** What it shows, in words. */
  label: string
  pitch?: PitchLine | null
  suspects?: readonly Suspect[]
  suspectId?: string | null
  offsetS: number
  lengthS: number
  time: TimeView
  frequency: FrequencyView
  grid: TileGrid
  loop: { startS: number; endS: number } | null
}>()
const emit = defineEmits<{ waits: [on: boolean] }>()
/** From the foot of the picture: just above the figures of the time axis. */
const TIMES_PX = 19
const canvas = useTemplateRef<HTMLCanvasElement>('canvas')
const KEPT_PICTURES = 160
const AGAIN_MS = 2000
let againTimer = 0
const pictures = new Map<
  string,
  { content: string; picture: HTMLImageElement | null; asking: AbortController; waits: boolean }
>()
const inked = new Map<string, HTMLCanvasElement>()
const nothingYet = ref(false)
const schedule = oncePerFrame(paint)
type Rgb = readonly [number, number, number]
let stop = () => {}

/** The picture of a place, asked for where it is not there as it is now; until then the one before it is drawn. */
function pictureOf(tile: TilePlan): HTMLImageElement | null {
  const place = { time_zoom: tile.timeZoom, column: tile.column, freq_zoom: tile.freqZoom, row: tile.row }
  const key = keyOf(tile)
  const known = pictures.get(key)
  if (known?.content === props.content) return known.picture
  known?.asking.abort()
  const asking = new AbortController()
  const kept = { content: props.content, picture: known?.picture ?? null, asking, waits: true }
  pictures.set(key, kept)
  const address = () => props.address(props.stripId, props.shows, place, asking.signal)
  void loadPicture(address, 'now', asking.signal).then(
    (picture) => {
      kept.picture = picture
      kept.waits = false
      schedule()
    },
    () => {
      if (pictures.get(key) !== kept || asking.signal.aborted) return
      pictures.delete(key)
      againTimer = window.setTimeout(schedule, AGAIN_MS)
    },
  )
  forgetOldest()
  return kept.picture
}

const keyOf = (tile: TilePlan) =>
  [props.stripId, props.shows, tile.timeZoom, tile.column, tile.freqZoom, tile.row].join(' ')

/** What was scrolled past, or is of another strip, before it came is not waited for any more. */
function giveUpBut(tiles: readonly TilePlan[]) {
  const shown = new Set(tiles.map(keyOf))
  for (const [key, { picture, asking }] of pictures) {
    if (picture || shown.has(key)) continue
    asking.abort()
    pictures.delete(key)
  }
}

function forgetOldest() {
  const [key, oldest] = pictures.entries().next().value ?? []
  if (pictures.size <= KEPT_PICTURES || key === undefined) return
  oldest?.asking.abort()
  inked.delete(oldest?.picture?.src ?? '')
  pictures.delete(key)
}

/** The picture's opacity in the theme's ink; of a difference, what was taken away in green, what was added in ink. */
function withInk(picture: HTMLImageElement, ink: string, taken: string): HTMLCanvasElement {
  const known = inked.get(picture.src)
  if (known?.dataset['ink'] === ink) return known
  const out = document.createElement('canvas')
  out.width = picture.naturalWidth
  out.height = picture.naturalHeight
  out.dataset['ink'] = ink
  const pen = out.getContext('2d')
  if (pen) {
    pen.drawImage(picture, 0, 0)
    if (props.shows === 'difference') withTwoInks(pen, rgbOf(pen, taken), rgbOf(pen, ink))
    else {
      pen.globalCompositeOperation = 'source-in'
      pen.fillStyle = ink
      pen.fillRect(0, 0, out.width, out.height)
    }
  }
  inked.set(picture.src, out)
  return out
}

/** Black gets one colour, white the other; opacity stays. */
function withTwoInks(pen: CanvasRenderingContext2D, black: Rgb, white: Rgb) {
  const image = pen.getImageData(0, 0, pen.canvas.width, pen.canvas.height)
  for (let at = 0; at < image.data.length; at += 4) {
    const [red, green, blue] = (image.data[at] ?? 0) > 127 ? white : black
    image.data[at] = red
    image.data[at + 1] = green
    image.data[at + 2] = blue
  }
  pen.putImageData(image, 0, 0)
}

/** What a colour of the theme comes to, as it is painted. */
function rgbOf(pen: CanvasRenderingContext2D, colour: string): Rgb {
  pen.fillStyle = colour
  const hex = String(pen.fillStyle) // the canvas tells an opaque colour as #rrggbb
  return [1, 3, 5].map((from) => parseInt(hex.slice(from, from + 2), 16)) as [number, number, number]
}

function paint() {
  const surface = canvas.value && surfaceOf(canvas.value)
  if (!surface || !canvas.value) return
  const { context, width, height } = surface
  const c = colours(canvas.value)
  paintFrequencyLines(surface, props.frequency, c.line)
  const tiles = planTiles(props.time, props.frequency, width, height, props.grid, props.offsetS, props.lengthS)
  giveUpBut(tiles)
  const drawn = tiles.map(pictureOf)
  emit(
    'waits',
    tiles.some((tile) => pictures.get(keyOf(tile))?.waits),
  )
  nothingYet.value = tiles.length > 0 && drawn.every((picture) => !picture)
  for (const [index, tile] of tiles.entries()) {
    const picture = drawn[index]
    if (picture) context.drawImage(withInk(picture, c.ink, c.green), tile.x, tile.y, tile.width, tile.height)
  }
  if (props.pitch?.one_voice) paintPitch(surface, props.pitch, c)
  paintSuspects(surface, c.vermilion)
  if (props.loop) {
    context.fillStyle = c.ink
    for (const at of [props.loop.startS, props.loop.endS]) {
      const x = Math.round(xOfTime(at, props.time, width))
      context.fillRect(x, 0, 1, 7)
      context.fillRect(x, height - 7, 1, 7)
    }
  }
  context.font = '10px "IBM Plex Mono"'
  context.textAlign = 'center'
  for (const at of timeTicks(props.time, width)) {
    const x = Math.min(Math.max(xOfTime(at, props.time, width), 17), width - 17)
    context.fillStyle = c.paper
    context.fillRect(x - 17, height - 14, 34, 14)
    context.fillStyle = c.soft
    context.fillText(tickTime(at), x, height - 4)
  }
}

/** The pitch line: paper around ink, so that it reads on pale and dark alike. */
function paintPitch({ context, width, height }: Surface, pitch: PitchLine, c: ReturnType<typeof colours>) {
  context.beginPath()
  let drawing = false
  pitch.times_s.forEach((at, index) => {
    const hz = pitch.hz[index] ?? null
    if (hz === null) {
      drawing = false
      return
    }
    const x = xOfTime(at, props.time, width)
    const y = yOfHz(hz, props.frequency, height)
    if (drawing) context.lineTo(x, y)
    else context.moveTo(x, y)
    drawing = true
  })
  for (const [colour, wide] of [
    [c.paper, 4],
    [c.slate, 1.8],
  ] as const) {
    context.strokeStyle = colour
    context.lineWidth = wide
    context.stroke()
  }
}

/**
 * Brackets at the side at each suspect, and the times of the chosen one along the time axis: nothing is laid over the
 * picture.
 */
function paintSuspects({ context, width, height }: Surface, vermilion: string) {
  context.strokeStyle = vermilion
  for (const one of props.suspects ?? []) {
    const half = Math.max(Math.asinh(1 / (2 * one.q)) / Math.LN2, 0.03)
    const [top, bottom] = [
      yOfHz(one.hz * 2 ** half, props.frequency, height),
      yOfHz(one.hz / 2 ** half, props.frequency, height),
    ]
    context.lineWidth = one.id === props.suspectId ? 3 : 1.5
    context.beginPath()
    context.moveTo(width - 7, top)
    context.lineTo(width - 2, top)
    context.lineTo(width - 2, bottom)
    context.lineTo(width - 7, bottom)
    context.stroke()
    if (one.id !== props.suspectId) continue
    context.fillStyle = vermilion
    for (const [start, end] of one.times) {
      const from = xOfTime(start, props.time, width)
      context.fillRect(from, height - TIMES_PX, Math.max(xOfTime(end, props.time, width) - from, 2), 4)
    }
  }
}

onMounted(() => {
  if (canvas.value) stop = onRepaint(canvas.value, schedule)
})
onBeforeUnmount(() => {
  stop()
  window.clearTimeout(againTimer)
  giveUpBut([])
})
watch(
  () => [
    props.stripId,
    props.shows,
    props.content,
    props.pitch,
    props.suspects,
    props.suspectId,
    props.time,
    props.frequency,
    props.loop,
  ],
  schedule,
)
</script>

<template>
  <canvas ref="canvas" class="lane" role="img" :aria-label="label"></canvas>
  <p v-if="nothingYet" class="coming soft" role="status">the picture is on its way …</p>
</template>

<style scoped>
.lane {
  width: 100%;
  height: 100%;
  display: block;
}
</style>
