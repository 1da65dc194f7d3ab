<script setup lang="ts">
/** The chosen track's spectrogram, drawn from pictures that the core computes; ink is level. */
import { onBeforeUnmount, onMounted, useTemplateRef, watch } from 'vue'
import { loadPicture, pictureUrl } from '../api/client'
import { timeTicks, xOfTime, type FrequencyView, type TimeView } from '../lib/axis'
import { colours, onRepaint, paintFrequencyLines, surfaceOf } from '../lib/canvas'
import { formatTime } from '../lib/figures'
import { planTiles, type TileGrid, type TilePlan } from '../lib/tiles'

const props = defineProps<{
  audioId: string
  offsetS: number
  lengthS: number
  time: TimeView
  frequency: FrequencyView
  grid: TileGrid
  loop: { startS: number; endS: number } | null
}>()
const canvas = useTemplateRef<HTMLCanvasElement>('canvas')
const KEPT_PICTURES = 160
const pictures = new Map<string, HTMLImageElement | null>()
const inked = new Map<string, HTMLCanvasElement>()
let stop = () => {}
let asked = false

function schedule() {
  if (asked) return
  asked = true
  requestAnimationFrame(() => {
    asked = false
    paint()
  })
}

function pictureOf(tile: TilePlan): HTMLImageElement | null {
  const url = pictureUrl(props.audioId, tile.timeZoom, tile.column, tile.freqZoom, tile.row, props.grid.sampleRateHz)
  const known = pictures.get(url)
  if (known !== undefined) return known
  pictures.set(url, null)
  void loadPicture(url, 'now').then(
    (picture) => {
      pictures.set(url, picture)
      schedule()
    },
    () => pictures.delete(url),
  )
  const oldest = pictures.keys().next().value
  if (pictures.size > KEPT_PICTURES && oldest !== undefined) {
    inked.delete(pictures.get(oldest)?.src ?? '')
    pictures.delete(oldest)
  }
  return null
}

/** The picture's opacity in the theme's ink. */
function withInk(picture: HTMLImageElement, ink: string): HTMLCanvasElement {
  const known = inked.get(picture.src)
  if (known?.dataset['ink'] === ink) return known
  const out = document.createElement('canvas')
  out.width = picture.naturalWidth
  out.height = picture.naturalHeight
  out.dataset['ink'] = ink
  const pen = out.getContext('2d')
  if (pen) {
    pen.drawImage(picture, 0, 0)
    pen.globalCompositeOperation = 'source-in'
    pen.fillStyle = ink
    pen.fillRect(0, 0, out.width, out.height)
  }
  inked.set(picture.src, out)
  return out
}

function paint() {
  const surface = canvas.value && surfaceOf(canvas.value)
  if (!surface || !canvas.value) return
  const { context, width, height } = surface
  const c = colours(canvas.value)
  paintFrequencyLines(surface, props.frequency, c.line)
  for (const tile of planTiles(props.time, props.frequency, width, height, props.grid, props.offsetS, props.lengthS)) {
    const picture = pictureOf(tile)
    if (picture) context.drawImage(withInk(picture, c.ink), tile.x, tile.y, tile.width, tile.height)
  }
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
  for (const at of timeTicks(props.time)) {
    const x = Math.min(Math.max(xOfTime(at, props.time, width), 17), width - 17)
    context.fillStyle = c.paper
    context.fillRect(x - 17, height - 14, 34, 14)
    context.fillStyle = c.soft
    context.fillText(formatTime(at), x, height - 4)
  }
}

onMounted(() => {
  if (canvas.value) stop = onRepaint(canvas.value, schedule)
})
onBeforeUnmount(() => stop())
watch(() => [props.audioId, props.time, props.frequency, props.loop], schedule)
</script>

<template><canvas ref="canvas" class="lane" role="img" aria-label="Spectrogram of the chosen track"></canvas></template>

<style scoped>
.lane { width: 100%; height: 100%; display: block; }
</style>
