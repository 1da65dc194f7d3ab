<script setup lang="ts">
/**
 * One track of the Ensemble: frequency up, time across, ink for how loud it is, slate hatching where it is hidden,
 * green what something tried would free.
 */
import { onBeforeUnmount, onMounted, useTemplateRef, watch } from 'vue'
import type { FrequencyView } from '../lib/axis'
import { colours, hatching, onRepaint, paintFrequencyLines, surfaceOf } from '../lib/canvas'
import { rasterOf, type BandPicture } from '../lib/ensemble'

const props = defineProps<{
  picture: BandPicture
  edges: readonly number[]
  nTimes: number
  hiddenFrom: number
  frequency: FrequencyView
}>()
const canvas = useTemplateRef<HTMLCanvasElement>('canvas')
let stop = () => {}

/** A picture of alphas, one pixel a time step, as something that can be drawn. */
function masked(alphas: Uint8Array, width: number, height: number): HTMLCanvasElement {
  const mask = document.createElement('canvas')
  mask.width = width
  mask.height = height
  const data = new ImageData(width, height)
  alphas.forEach((alpha, index) => (data.data[4 * index + 3] = alpha))
  mask.getContext('2d')?.putImageData(data, 0, 0)
  return mask
}

/** Fill the shape of a mask, stretched to the column, with a colour or pattern. */
function filled(
  mask: HTMLCanvasElement,
  fill: (context: CanvasRenderingContext2D) => CanvasPattern | string,
  width: number,
  height: number,
): HTMLCanvasElement {
  const out = document.createElement('canvas')
  out.width = width
  out.height = height
  const context = out.getContext('2d')
  if (!context) return out
  context.imageSmoothingEnabled = false
  context.drawImage(mask, 0, 0, width, height)
  context.globalCompositeOperation = 'source-in'
  context.fillStyle = fill(context)
  context.fillRect(0, 0, width, height)
  return out
}

function paint() {
  const surface = canvas.value && surfaceOf(canvas.value)
  if (!surface || !canvas.value || props.nTimes < 1) return
  const { context, width, height } = surface
  const c = colours(canvas.value)
  paintFrequencyLines(surface, props.frequency, c.line)
  const whole = { width: Math.max(Math.round(width), 1), height: Math.max(Math.round(height), 1) }
  const raster = rasterOf(props.picture, props.edges, props.nTimes, props.frequency, whole.height, props.hiddenFrom)
  function lay(alphas: Uint8Array, fill: Parameters<typeof filled>[1], opacity = 1) {
    context.globalAlpha = opacity
    const mask = masked(alphas, props.nTimes, whole.height)
    context.drawImage(filled(mask, fill, whole.width, whole.height), 0, 0, width, height)
    context.globalAlpha = 1
  }
  lay(raster.ink, () => c.ink)
  // Paper under the lines, so that they read on dark ink as well.
  lay(raster.hidden, () => c.paper, 0.6)
  lay(raster.hidden, (pen) => hatching(pen, c.slate))
  if (props.picture.freed) lay(raster.freed, () => c.green, 0.75)
}

onMounted(() => {
  if (canvas.value) stop = onRepaint(canvas.value, paint)
})
onBeforeUnmount(() => stop())
watch(() => [props.picture, props.frequency, props.nTimes], paint)
</script>

<template><canvas ref="canvas" aria-hidden="true"></canvas></template>

<style scoped>
canvas {
  width: 100%;
  height: 100%;
  display: block;
}
</style>
