<script setup lang="ts">
/** The whole song as a waveform: drag sets the loop, a click moves the play position. */
import { computed, onBeforeUnmount, onMounted, ref, useTemplateRef, watch } from 'vue'
import type { Waveform } from '../api/client'
import { colours, onRepaint, surfaceOf } from '../lib/canvas'
import { formatTime } from '../lib/figures'
import type { TimeView } from '../lib/axis'
import type { Passage } from '../lib/moves'
import PositionLine from './PositionLine.vue'

const props = defineProps<{
  waveform: Waveform | null
  offsetS: number
  lengthS: number
  songS: number
  loop: { startS: number; endS: number } | null
  position: () => number
  shown: TimeView | null
  sections: readonly Passage[]
}>()
const emit = defineEmits<{
  loop: [range: { startS: number; endS: number } | null]
  seek: [seconds: number]
  name: [name: string]
  removeSection: [id: string]
}>()
const naming = ref('')
const canvas = useTemplateRef<HTMLCanvasElement>('canvas')
const dragging = ref<{ startS: number; endS: number } | null>(null)
const CLICK_PIXELS = 4
let stop = () => {}

const HARDLY_S = 0.02
/** The section that the loop is, if it is one. */
const section = computed(() =>
  props.sections.find(
    (one) =>
      props.loop &&
      Math.abs(one.startS - props.loop.startS) < HARDLY_S &&
      Math.abs(one.endS - props.loop.endS) < HARDLY_S,
  ),
)
const place = (one: Passage) => ({
  left: `${(100 * one.startS) / props.songS}%`,
  width: `${(100 * (Math.min(one.endS, props.songS) - one.startS)) / props.songS}%`,
})

function giveName() {
  if (naming.value.trim()) emit('name', naming.value)
  naming.value = ''
}

const loop = computed(() => dragging.value ?? props.loop)
const xOf = (seconds: number, width: number) => (seconds / props.songS) * width

function paint() {
  const surface = canvas.value && surfaceOf(canvas.value)
  if (!surface || !canvas.value) return
  const { context, width, height } = surface
  const c = colours(canvas.value)
  const middle = height / 2
  if (loop.value) {
    context.fillStyle = c.ochreFill
    context.fillRect(xOf(loop.value.startS, width), 0, xOf(loop.value.endS - loop.value.startS, width), height)
  }
  context.fillStyle = c.ink
  const columns = props.waveform?.lowest.length ?? 0
  for (let column = 0; column < columns; column++) {
    const low = props.waveform?.lowest[column] ?? 0
    const high = props.waveform?.highest[column] ?? 0
    const x = xOf(props.offsetS + (column / columns) * props.lengthS, width)
    context.fillRect(
      x,
      middle - high * middle,
      Math.max(xOf(props.lengthS / columns, width), 0.6),
      Math.max((high - low) * middle, 0.6),
    )
  }
  if (loop.value) {
    context.strokeStyle = c.ink
    context.lineWidth = 1.5
    context.strokeRect(
      xOf(loop.value.startS, width),
      0.75,
      xOf(loop.value.endS - loop.value.startS, width),
      height - 1.5,
    )
  }
  if (props.shown && props.shown.endS - props.shown.startS < props.songS - 0.01) {
    context.fillStyle = c.slate
    context.fillRect(xOf(props.shown.startS, width), height - 3, xOf(props.shown.endS - props.shown.startS, width), 3)
  }
}

function press(event: PointerEvent) {
  const box = canvas.value?.getBoundingClientRect()
  if (!box || event.button !== 0) return
  canvas.value?.setPointerCapture(event.pointerId)
  const at = (clientX: number) => Math.min(Math.max(((clientX - box.left) / box.width) * props.songS, 0), props.songS)
  const start = event.clientX
  const move = (moved: PointerEvent) => {
    if (Math.abs(moved.clientX - start) < CLICK_PIXELS) return
    const [a, b] = [at(start), at(moved.clientX)]
    dragging.value = { startS: Math.min(a, b), endS: Math.max(a, b) }
  }
  const release = () => {
    canvas.value?.removeEventListener('pointermove', move)
    canvas.value?.removeEventListener('pointerup', release)
    canvas.value?.removeEventListener('pointercancel', release)
    if (dragging.value) emit('loop', dragging.value)
    else emit('seek', at(start))
    dragging.value = null
  }
  canvas.value?.addEventListener('pointermove', move)
  canvas.value?.addEventListener('pointerup', release)
  canvas.value?.addEventListener('pointercancel', release)
}

onMounted(() => {
  if (canvas.value) stop = onRepaint(canvas.value, paint)
})
onBeforeUnmount(() => stop())
watch(() => [props.waveform, loop.value, props.shown, props.songS], paint)
</script>

<template>
  <div class="strip">
    <div class="wave">
      <canvas
        ref="canvas"
        data-test="waveform"
        data-hint="waveform"
        role="img"
        aria-label="Waveform: drag to set the loop, click to move the play position"
        @pointerdown="press"></canvas>
      <PositionLine :seconds="position" :start-s="0" :end-s="songS" />
      <button
        v-for="one in sections"
        :key="one.id"
        class="section"
        data-test="section"
        :style="place(one)"
        :aria-pressed="one === section"
        :title="`Loop ${one.name}`"
        @click="emit('loop', one === section ? null : one)">
        {{ one.name }}
      </button>
    </div>
    <div class="figures soft under">
      <span v-if="loop"
        >loop {{ formatTime(loop.startS) }}–{{ formatTime(loop.endS) }}
        <button class="plain" title="Play the whole song" @click="emit('loop', null)">clear loop</button>
        <template v-if="section"
          >{{ section.name }}
          <button
            class="plain"
            data-test="remove-section"
            title="Forget the name; nothing else changes"
            @click="emit('removeSection', section.id)">
            no longer a section
          </button></template
        >
        <form v-else class="naming" @submit.prevent="giveName">
          <input
            v-model="naming"
            data-test="section-name"
            aria-label="Name of this passage"
            placeholder="name it: Chorus"
            maxlength="60"
            @blur="giveName" /></form
      ></span>
      <span v-else>drag on the waveform to loop a passage</span>
    </div>
  </div>
</template>

<style scoped>
.strip {
  display: flex;
  flex-direction: column;
  min-width: 0;
  height: 100%;
}
.wave {
  position: relative;
  flex: 1;
  min-height: 0;
}
canvas {
  width: 100%;
  height: 100%;
  display: block;
  cursor: crosshair;
  touch-action: none;
}
.under {
  height: 1.25rem;
  line-height: 20px;
  overflow: hidden;
  white-space: nowrap;
}
.section {
  position: absolute;
  top: 0;
  height: 1.0625rem;
  padding: 0 4px;
  border: 0;
  border-left: 1.5px solid var(--ink-soft);
  background: color-mix(in srgb, var(--paper) 78%, transparent);
  color: var(--ink-soft);
  font: 0.75rem/16px var(--words);
  text-align: left;
  overflow: hidden;
  white-space: nowrap;
  text-overflow: ellipsis;
  cursor: pointer;
}
.section:hover {
  color: var(--ink);
  text-decoration: underline;
}
.section[aria-pressed='true'] {
  color: var(--ink);
  font-weight: 700;
}
.naming {
  display: inline;
  margin-left: 8px;
}
.naming input {
  width: 7.5rem;
  font: inherit;
  color: var(--ink);
  background: transparent;
  border: 0;
  border-bottom: 1px solid var(--ink-soft);
  padding: 0 2px;
  height: 1.125rem;
}
.under .plain {
  padding: 0 4px;
  line-height: 18px;
  text-decoration: underline;
}
</style>
