<script setup lang="ts">
/** The close view of two tracks: both on one axis, contested regions marked, time underneath. */
import { computed, onBeforeUnmount, onMounted, useTemplateRef, watch } from 'vue'
import type { ClashView, ColumnView, EnsembleView, RegionRule } from '../api/client'
import { timeTicks, wholeAxis, yOfHz } from '../lib/axis'
import { colours, hatching, onRepaint, paintFrequencyLines, surfaceOf } from '../lib/canvas'
import { meanInk, pictureOf } from '../lib/ensemble'
import { formatHz, formatTime, tickTime } from '../lib/figures'
import ColumnPicture from './ColumnPicture.vue'
import PositionLine from './PositionLine.vue'
import RegionRules from './RegionRules.vue'

const STRIP_PX = 430 // about as wide as the strip of the times is
const props = defineProps<{
  view: EnsembleView
  first: ColumnView
  other: ColumnView
  clashes: ClashView[]
  clashId: string | null
  rules: RegionRule[]
  now: boolean
  position: () => number
}>()
const emit = defineEmits<{
  choose: [id: string]
  loop: [startS: number, endS: number]
  press: [id: string, hz: number, atS: number]
  release: []
  point: [hz: number | null]
  rule: [rule: RegionRule]
  unrule: [rule: RegionRule]
}>()
const canvas = useTemplateRef<HTMLCanvasElement>('canvas')
let stop = () => {}

const nTimes = computed(() => props.view.n_times ?? 1)
const span = computed(() => ({
  startS: props.view.start_s ?? 0,
  endS: (props.view.start_s ?? 0) + nTimes.value * (props.view.step_s ?? 1),
}))
const both = computed(() =>
  [props.first, props.other].map((column) => ({ column, picture: pictureOf(column, props.now) })),
)
const part = (hz: number) => `${(100 * yOfHz(Math.min(Math.max(hz, 20), 20_000), wholeAxis, 1)).toFixed(2)}%`
const across = (seconds: number) =>
  `${((100 * (seconds - span.value.startS)) / Math.max(span.value.endS - span.value.startS, 0.01)).toFixed(2)}%`
const shown = computed(() => props.clashes.find((one) => one.id === props.clashId) ?? props.clashes[0] ?? null)
const hiddenName = (one: ClashView) => (one.hidden === props.first.id ? props.first.name : props.other.name)

function paint() {
  const surface = canvas.value && surfaceOf(canvas.value)
  if (!surface || !canvas.value) return
  const { context, width, height } = surface
  const c = colours(canvas.value)
  paintFrequencyLines(surface, wholeAxis, c.line)
  const levels = both.value.map(({ picture }) => meanInk(picture, nTimes.value))
  const top = Math.max(...levels.flat(), 0.01)
  const hz = props.view.bands_hz ?? []
  const trace = (of: number[]) => {
    context.beginPath()
    of.forEach((level, band) => context.lineTo((level / top) * (width - 12), yOfHz(hz[band] ?? 20, wholeAxis, height)))
  }
  for (const one of props.clashes) {
    const y = yOfHz(Math.min(one.high_hz, 20_000), wholeAxis, height)
    context.fillStyle = hatching(context, c.slate)
    context.globalAlpha = one.id === props.clashId ? 0.6 : 0.25
    context.fillRect(0, y, width, yOfHz(Math.max(one.low_hz, 20), wholeAxis, height) - y)
    context.globalAlpha = 1
  }
  context.lineWidth = 1.8
  context.strokeStyle = c.ink
  trace(levels[0] ?? [])
  context.stroke()
  context.strokeStyle = c.slate
  context.setLineDash([6, 4])
  trace(levels[1] ?? [])
  context.stroke()
  context.setLineDash([])
}

function press(event: PointerEvent, id: string) {
  if (event.button !== 0) return
  const box = (event.currentTarget as HTMLElement).getBoundingClientRect()
  ;(event.currentTarget as HTMLElement).setPointerCapture(event.pointerId)
  emit(
    'press',
    id,
    hzAt(event),
    span.value.startS + ((event.clientX - box.left) / box.width) * (span.value.endS - span.value.startS),
  )
}

function hzAt(event: PointerEvent): number {
  const box = (event.currentTarget as HTMLElement).getBoundingClientRect()
  return Math.min(Math.max(20 * 1000 ** (1 - (event.clientY - box.top) / box.height), 20), 20_000)
}

onMounted(() => {
  if (canvas.value) stop = onRepaint(canvas.value, paint)
})
onBeforeUnmount(() => stop())
watch(() => [both.value, props.clashes, props.clashId], paint)
</script>

<template>
  <div class="pair" data-test="pair" @pointerleave="emit('point', null)">
    <div v-for="({ column, picture }, index) in both" :key="column.id" class="half">
      <div class="head">
        <svg width="26" height="8" aria-hidden="true"><path d="M0 4 H26" :class="index ? 'other' : 'own'" /></svg>
        {{ ' ' }}<strong>{{ column.name }}</strong> <span class="soft">{{ index ? '' : 'goes first' }}</span>
      </div>
      <div
        class="picture"
        @pointerdown.prevent="press($event, column.id)"
        @pointerup="emit('release')"
        @pointercancel="emit('release')"
        @pointermove="emit('point', hzAt($event))">
        <ColumnPicture
          :picture="picture"
          :edges="view.edges_hz ?? []"
          :n-times="nTimes"
          :hidden-from="view.hidden_from ?? 0"
          :frequency="wholeAxis" />
        <PositionLine :seconds="position" :start-s="span.startS" :end-s="span.endS" />
        <div
          v-for="one in clashes"
          :key="one.id"
          class="region"
          :class="{ chosen: one.id === clashId }"
          :style="{ top: part(one.high_hz), bottom: `calc(100% - ${part(one.low_hz)})` }"></div>
      </div>
    </div>
    <div class="half levels">
      <div class="head soft">how loud each is, on the whole</div>
      <div class="picture" @pointermove="emit('point', hzAt($event))">
        <canvas ref="canvas" aria-hidden="true"></canvas>
        <button
          v-for="one in clashes"
          :key="one.id"
          class="mark"
          :class="{ left: one.hidden === other.id }"
          :aria-pressed="one.id === clashId"
          :style="{ top: part(one.centre_hz) }"
          :title="one.sentence"
          @click="emit('choose', one.id)">
          {{ hiddenName(one) }} hidden, {{ formatHz(one.centre_hz) }}
        </button>
      </div>
    </div>
    <RegionRules
      :first="first"
      :other="other"
      :rules="rules"
      :suggested="shown"
      @set="emit('rule', $event)"
      @remove="emit('unrule', $event)" />
    <div class="time">
      <span v-if="shown" class="soft">{{ hiddenName(shown) }} is hidden here; click to loop</span
      ><span v-else class="soft">No clash between these two.</span>
      <div class="strip">
        <button
          v-for="[from, to] in shown?.times ?? []"
          :key="from"
          :style="{ left: across(from), width: `max(3px, calc(${across(to)} - ${across(from)}))` }"
          :title="`Loop ${formatTime(from)} to ${formatTime(to)}`"
          :aria-label="`Loop ${formatTime(from)} to ${formatTime(to)}`"
          @click="emit('loop', from, to)"></button>
        <PositionLine :seconds="position" :start-s="span.startS" :end-s="span.endS" />
        <span
          v-for="tick in timeTicks(span, STRIP_PX)"
          :key="tick"
          class="tick figures"
          :style="{ left: across(tick) }"
          >{{ tickTime(tick) }}</span
        >
      </div>
    </div>
  </div>
</template>

<style scoped>
.pair {
  display: grid;
  grid-template: minmax(0, 1fr) 60px 58px / 1fr 1fr 1fr;
  height: 100%;
  min-width: 0;
  min-height: 0;
}
.half {
  display: flex;
  flex-direction: column;
  min-width: 0;
  min-height: 0;
  border-right: 1px solid var(--ink-soft);
}
.head {
  height: 44px;
  flex: none;
  padding: 12px 8px;
  border-bottom: 1.5px solid var(--ink);
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}
path {
  fill: none;
  stroke-width: 2;
}
.own {
  stroke: var(--ink);
}
.other {
  stroke: var(--slate);
  stroke-dasharray: 6 4;
}
.picture {
  position: relative;
  flex: 1;
  min-height: 0;
  cursor: pointer;
  touch-action: none;
  overflow: hidden;
}
.levels .picture {
  cursor: default;
}
canvas {
  width: 100%;
  height: 100%;
  display: block;
}
.region {
  position: absolute;
  left: 0;
  right: 0;
  border: 1px dashed var(--slate);
  border-width: 1px 0;
  pointer-events: none;
}
.region.chosen {
  border: 2px solid var(--slate);
  border-width: 2px 0;
}
.mark {
  position: absolute;
  right: 4px;
  transform: translateY(-50%);
  font: inherit;
  font-size: 0.75rem;
  color: inherit;
  background: var(--paper-raised);
  border: 1px solid var(--slate);
  cursor: pointer;
  padding: 0 5px;
}
.mark.left {
  right: auto;
  left: 4px;
  transform: translateY(70%);
}
.mark[aria-pressed='true'] {
  border-width: 2px;
  font-weight: 700;
}
.time {
  grid-column: 1 / -1;
  border-top: 1px solid var(--ink-soft);
  padding: 2px 6px 0;
  font-size: 0.7812rem;
  min-width: 0;
}
.strip {
  position: relative;
  height: 34px;
  border-top: 1px solid var(--line);
}
.strip button {
  position: absolute;
  top: 2px;
  height: 14px;
  padding: 0;
  border: 0;
  cursor: pointer;
  background: repeating-linear-gradient(135deg, var(--slate) 0 2px, transparent 2px 6px);
  outline: 1px solid var(--slate);
}
.tick {
  position: absolute;
  bottom: 0;
  font-size: 0.6875rem;
  color: var(--ink-soft);
}
</style>
