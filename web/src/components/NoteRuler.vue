<script setup lang="ts">
/** Frequencies and piano notes along the bench's axis. */
import { onBeforeUnmount, onMounted, useTemplateRef, watch } from 'vue'
import { frequencyTicks, yOfHz, type FrequencyView } from '../lib/axis'
import { colours, onRepaint, surfaceOf } from '../lib/canvas'
import { midiToHz, tickHz } from '../lib/figures'

const props = defineProps<{ view: FrequencyView; markedHz?: number | null }>()
const canvas = useTemplateRef<HTMLCanvasElement>('canvas')
const OVERTONES = 16
const NUMBERED = 6
const BLACK = new Set([1, 3, 6, 8, 10])
let stop = () => {}

function paint() {
  const surface = canvas.value && surfaceOf(canvas.value)
  if (!surface || !canvas.value) return
  const { context, width, height } = surface
  const c = colours(canvas.value)
  context.fillStyle = c.ink
  context.textBaseline = 'middle'
  context.font = '11px "IBM Plex Mono"'
  const tall = height / (12 * Math.log2(props.view.highHz / props.view.lowHz))
  for (let midi = 12; midi <= 136; midi++) {
    const hz = midiToHz(midi)
    if (hz < props.view.lowHz || hz > props.view.highHz) continue
    const y = yOfHz(hz, props.view, height)
    if (BLACK.has(midi % 12)) context.fillRect(width - 16, y - Math.max(tall * 0.32, 1), 10, Math.max(tall * 0.64, 2))
    if (midi % 12 === 0) {
      context.fillRect(width - 16, y + tall / 2, 16, 1)
      context.globalAlpha = 0.75
      if (tall > 2.6) context.fillText(`C${midi / 12 - 1}`, width - 35, y)
      context.globalAlpha = 1
    }
  }
  context.fillStyle = c.ochre
  for (let number = 1; props.markedHz && number <= OVERTONES; number++) {
    const y = yOfHz(number * props.markedHz, props.view, height)
    context.fillRect(number === 1 ? 0 : width - 30, y - 1, number === 1 ? width : 30, 2)
    if (number > 1 && number <= NUMBERED) context.fillText(String(number), width - 37, y)
  }
  context.fillStyle = c.ink
  context.textAlign = 'left'
  let lowest = Infinity
  for (const hz of frequencyTicks(props.view)) {
    const y = Math.min(Math.max(yOfHz(hz, props.view, height), 6), height - 6)
    if (lowest - y < 13) continue
    lowest = y
    context.fillText(tickHz(hz), 4, y)
  }
}

onMounted(() => {
  if (canvas.value) stop = onRepaint(canvas.value, paint)
  void document.fonts.ready.then(paint)
})
onBeforeUnmount(() => stop())
watch(() => [props.view, props.markedHz], paint)
</script>

<template><canvas ref="canvas" class="ruler" aria-hidden="true"></canvas></template>

<style scoped>
.ruler {
  width: 100%;
  height: 100%;
  display: block;
}
</style>
