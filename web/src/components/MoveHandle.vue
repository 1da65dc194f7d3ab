<script setup lang="ts">
/** A move's place on the spectrum: dragged up and down it changes frequency, sideways gain, never both at once. */
import { computed, ref } from 'vue'
import type { Move, MoveKind } from '../api/client'
import { LEVEL_HIGH_DB, LEVEL_LOW_DB, hzOfY, yOfHz, type FrequencyView } from '../lib/axis'
import { figureOf, kindOf, numberOf, placeHz, withMeaning, type Meaning } from '../lib/moves'
import { octavesToQ, qToOctaves } from '../lib/figures'

const props = defineProps<{
  move: Move
  kinds: readonly MoveKind[]
  chosen: boolean
  x: number
  width: number
  height: number
  frequency: FrequencyView
  title: string
}>()
const emit = defineEmits<{ choose: []; preview: [move: Move]; done: [move: Move, label: string] }>()
const LOCK_PX = 4
const NARROWEST_OCTAVES = 0.001 // a width of nothing has no Q
const axis = ref<'hz' | 'gain' | 'q' | null>(null)

/** A move is dragged where it has a place of its own, not just a region. */
const hz = computed(() => numberOf(props.kinds, props.move, 'place'))
const yOf = (at: number) => yOfHz(at, props.frequency, props.height)
const y = computed(() => yOf(hz.value ?? 0))
const q = computed(() => numberOf(props.kinds, props.move, 'width'))
const edges = computed(() => {
  if (q.value === null || hz.value === null || !props.chosen) return []
  const half = 2 ** (qToOctaves(q.value) / 2)
  return [hz.value * half, hz.value / half].map(yOf)
})
const clamp = (value: number, low: number, high: number) => Math.min(Math.max(value, low), high)
const isMoving = computed(() => kindOf(props.kinds, props.move)?.family === 'dynamic')
/** Set what a figure of a meaning says, within the limits that the core describes. */
function limited(from: Move, meaning: Meaning, value: number): Move {
  const figure = figureOf(props.kinds, from, meaning)
  return withMeaning(
    props.kinds,
    from,
    meaning,
    clamp(value, figure?.minimum ?? -Infinity, figure?.maximum ?? Infinity),
  )
}

function dragged(from: Move, dx: number, dy: number, fine: boolean): Move {
  const slow = fine ? 0.2 : 1
  const depthDb = numberOf(props.kinds, from, 'gain')
  if (axis.value === 'gain' && depthDb !== null) {
    const perPixel = (LEVEL_HIGH_DB - LEVEL_LOW_DB) / props.width
    return limited(from, 'gain', Math.round((depthDb + dx * perPixel * slow) * 10) / 10)
  }
  const fromHz = placeHz(props.kinds, from)
  if (axis.value === 'hz' && fromHz !== null) {
    return withMeaning(props.kinds, from, 'place', hzOfY(yOf(fromHz) + dy * slow, props.frequency, props.height))
  }
  return from
}

function press(event: PointerEvent) {
  if (event.button !== 0) return
  emit('choose')
  axis.value = null
  follow(event, (dx, dy, fine, from) => {
    if (!axis.value && Math.max(Math.abs(dx), Math.abs(dy)) >= LOCK_PX)
      axis.value = Math.abs(dx) > Math.abs(dy) && figureOf(props.kinds, from, 'gain') ? 'gain' : 'hz'
    return dragged(from, dx, dy, fine)
  })
}

function pressEdge(event: PointerEvent, upper: boolean) {
  axis.value = 'q'
  follow(event, (_dx, dy, fine, from) => {
    const fromQ = numberOf(props.kinds, from, 'width')
    if (fromQ === null) return from
    const octavesPerPixel = Math.log2(props.frequency.highHz / props.frequency.lowHz) / props.height
    const wider = (upper ? -dy : dy) * octavesPerPixel * 2 * (fine ? 0.2 : 1)
    return limited(from, 'width', octavesToQ(Math.max(qToOctaves(fromQ) + wider, NARROWEST_OCTAVES)))
  })
}

function follow(event: PointerEvent, change: (dx: number, dy: number, fine: boolean, from: Move) => Move) {
  const target = event.currentTarget as HTMLElement
  const from = props.move
  let latest = from
  target.setPointerCapture(event.pointerId)
  const moved = (at: PointerEvent) => {
    latest = change(at.clientX - event.clientX, at.clientY - event.clientY, at.shiftKey, from)
    if (latest !== from) emit('preview', latest)
  }
  const ended = () => {
    target.removeEventListener('pointermove', moved)
    target.removeEventListener('pointerup', ended)
    target.removeEventListener('pointercancel', ended)
    if (latest !== from) emit('done', latest, axis.value === 'gain' ? 'Gain' : axis.value === 'q' ? 'Q' : 'Frequency')
    axis.value = null
  }
  target.addEventListener('pointermove', moved)
  target.addEventListener('pointerup', ended)
  target.addEventListener('pointercancel', ended)
}
</script>

<template>
  <div v-if="hz !== null && y >= 0 && y <= height" class="place">
    <button
      class="handle"
      data-test="handle"
      :class="{ chosen, moving: isMoving, off: !move.on, locked: axis }"
      :style="{ left: `${x}px`, top: `${y}px` }"
      :title="`${title}: drag up or down for frequency, sideways for gain (shift: finer)`"
      @pointerdown.stop="press"></button>
    <button
      v-for="(edge, index) in edges"
      :key="index"
      class="edge"
      :style="{ left: `${x}px`, top: `${edge}px` }"
      title="Drag for Q"
      aria-label="Width of the move"
      @pointerdown.stop="pressEdge($event, index === 0)"></button>
  </div>
</template>

<style scoped>
.handle {
  position: absolute;
  width: 11px;
  height: 11px;
  margin: -5.5px;
  padding: 0;
  border: 2px solid var(--green);
  background: var(--paper);
  cursor: move;
  touch-action: none;
  transform: rotate(45deg);
}
.handle.chosen {
  z-index: 1;
  background: var(--green);
  width: 13px;
  height: 13px;
  margin: -6.5px;
}
.handle.moving {
  border-radius: 50% 0;
}
.handle.off {
  border-style: dotted;
}
.edge {
  position: absolute;
  width: 26px;
  height: 9px;
  margin: -4.5px -13px;
  padding: 0;
  border: 0;
  background: linear-gradient(var(--green), var(--green)) center / 22px 2px no-repeat;
  cursor: ns-resize;
  touch-action: none;
}
</style>
