<script setup lang="ts">
/**
 * The live level of what a move listens to, with its threshold to be set on it by eye; behind, what the move did
 * lately.
 */
import { computed, ref, useTemplateRef, watch } from 'vue'
import { formatDb } from '../lib/figures'

const props = defineProps<{
  levelDb: number | null
  gainDb: number | null
  thresholdDb: number
  minimum: number
  maximum: number
}>()
const emit = defineEmits<{ preview: [db: number]; commit: [db: number] }>()
const box = useTemplateRef<HTMLElement>('box')
const KEPT = 90
const DEEPEST_DB = 24
const trace = ref<number[]>([])
const highest = ref<number | null>(null)
const dragged = ref<number | null>(null)

watch(
  () => [props.levelDb, props.gainDb] as const,
  ([level, gain]) => {
    if (gain === null) return
    trace.value = [...trace.value, gain].slice(-KEPT)
    // The highest of the last moments falls slowly, so that it can be read.
    highest.value = level === null ? null : Math.max(level, (highest.value ?? -200) - 0.6)
  },
)

const part = (db: number) => Math.min(Math.max((db - props.minimum) / (props.maximum - props.minimum), 0), 1) * 100
const shownThreshold = computed(() => dragged.value ?? props.thresholdDb)
const path = computed(() =>
  trace.value
    .map(
      (gain, index) =>
        `${index ? 'L' : 'M'}${index} ${18 - (Math.min(Math.max(gain, -DEEPEST_DB), DEEPEST_DB) / DEEPEST_DB) * 17}`,
    )
    .join(' '),
)

const dbAt = (event: PointerEvent) => {
  const rect = box.value?.getBoundingClientRect()
  if (!rect) return props.thresholdDb
  return (
    Math.round(
      (props.minimum +
        Math.min(Math.max((event.clientX - rect.left) / rect.width, 0), 1) * (props.maximum - props.minimum)) *
        2,
    ) / 2
  )
}
function press(event: PointerEvent) {
  ;(event.currentTarget as HTMLElement).setPointerCapture(event.pointerId)
  move(event)
}
function move(event: PointerEvent) {
  if (!(event.buttons & 1)) return
  dragged.value = dbAt(event)
  emit('preview', dragged.value)
}
function release() {
  if (dragged.value !== null) emit('commit', dragged.value)
  dragged.value = null
}
const step = (by: number) => emit('commit', Math.min(Math.max(props.thresholdDb + by, props.minimum), props.maximum))
</script>

<template>
  <div class="meter">
    <div
      ref="box"
      class="level"
      role="slider"
      tabindex="0"
      aria-label="Threshold on the live level"
      data-test="threshold"
      :aria-valuenow="shownThreshold"
      :aria-valuemin="minimum"
      :aria-valuemax="maximum"
      title="Drag the mark to where the move is to begin"
      @pointerdown.prevent="press"
      @pointermove="move"
      @pointerup="release"
      @pointercancel="dragged = null"
      @keydown.left.prevent="step($event.shiftKey ? -0.1 : -1)"
      @keydown.right.prevent="step($event.shiftKey ? 0.1 : 1)">
      <div class="bar" data-test="level" :style="{ width: `${levelDb === null ? 0 : part(levelDb)}%` }"></div>
      <div v-if="highest !== null" class="high" :style="{ left: `${part(highest)}%` }"></div>
      <div class="mark" :style="{ left: `${part(shownThreshold)}%` }"></div>
    </div>
    <svg
      class="trace"
      :viewBox="`0 0 ${KEPT - 1} 36`"
      preserveAspectRatio="none"
      role="img"
      :aria-label="`Gain of the last moments, now ${gainDb === null ? 'at rest' : formatDb(gainDb)}`">
      <path class="rest" d="M0 18 H 89" />
      <path class="gain" data-test="gain-trace" :d="path" />
    </svg>
    <span class="figures now"
      ><span class="soft">hears</span> {{ levelDb === null ? 'nothing yet' : formatDb(levelDb) }}
      <span class="soft">does</span>
      {{ ' ' }}<strong data-test="gain-now">{{ gainDb === null ? '–' : formatDb(gainDb) }}</strong></span
    >
  </div>
</template>

<style scoped>
.meter {
  display: grid;
  gap: 2px;
  margin: 2px 0;
}
.level {
  position: relative;
  height: 18px;
  background: var(--paper-sunk);
  border: 1px solid var(--line);
  cursor: ew-resize;
  touch-action: none;
}
.bar {
  position: absolute;
  left: 0;
  top: 3px;
  bottom: 3px;
  background: var(--ink-soft);
}
.high {
  position: absolute;
  top: 1px;
  bottom: 1px;
  width: 1px;
  background: var(--ink);
}
.mark {
  position: absolute;
  top: -3px;
  bottom: -3px;
  width: 0;
  border-left: 3px solid var(--green);
  margin-left: -1.5px;
}
.trace {
  width: 100%;
  height: 30px;
  display: block;
  border-bottom: 1px solid var(--line);
}
.rest {
  stroke: var(--line);
  stroke-width: 1;
  vector-effect: non-scaling-stroke;
}
.gain {
  stroke: var(--green);
  stroke-width: 2;
  fill: none;
  vector-effect: non-scaling-stroke;
}
.now {
  font-size: 0.75rem;
  white-space: nowrap;
}
</style>
