<script setup lang="ts">
/** All tracks side by side in right-of-way order: press a cell to hear it, drag a name to say who goes before whom. */
import { computed, ref } from 'vue'
import type { ClashView, ColumnView, EnsembleView } from '../api/client'
import { hzOfY, wholeAxis, yOfHz } from '../lib/axis'
import { pictureOf } from '../lib/ensemble'
import ColumnPicture from './ColumnPicture.vue'
import PositionLine from './PositionLine.vue'

const props = defineProps<{
  view: EnsembleView
  columns: ColumnView[]
  clash: ClashView | null
  pairIds: string[]
  now: boolean
  pointerHz: number | null
  position: () => number
}>()
const emit = defineEmits<{
  press: [id: string, hz: number, atS: number]
  release: []
  pick: [id: string]
  move: [id: string, to: number]
  point: [hz: number | null]
}>()
const draggedId = ref<string | null>(null)
const overAt = ref(-1)

const edges = computed(() => props.view.edges_hz ?? [])
const nTimes = computed(() => props.view.n_times ?? 0)
const span = computed(() => ({
  startS: props.view.start_s ?? 0,
  endS: (props.view.start_s ?? 0) + nTimes.value * (props.view.step_s ?? 1),
}))
const pictures = computed(() => new Map(props.columns.map((column) => [column.id, pictureOf(column, props.now)])))
const part = (hz: number) => `${(100 * yOfHz(Math.min(Math.max(hz, 20), 20_000), wholeAxis, 1)).toFixed(2)}%`
const marks = (id: string) => props.clash && (props.clash.hidden === id || props.clash.by === id)

function place(event: PointerEvent | MouseEvent): { hz: number; atS: number } {
  const box = (event.currentTarget as HTMLElement).getBoundingClientRect()
  const across = Math.min(Math.max((event.clientX - box.left) / Math.max(box.width, 1), 0), 1)
  return {
    hz: hzOfY(event.clientY - box.top, wholeAxis, box.height),
    atS: span.value.startS + across * (span.value.endS - span.value.startS),
  }
}

function press(event: PointerEvent, id: string) {
  if (event.button !== 0) return
  ;(event.currentTarget as HTMLElement).setPointerCapture(event.pointerId)
  const { hz, atS } = place(event)
  emit('press', id, hz, atS)
}

function dropped(to: number) {
  if (draggedId.value) emit('move', draggedId.value, to)
  draggedId.value = null
  overAt.value = -1
}

/** With the keyboard: Shift and an arrow moves a name, Enter chooses it. */
function key(event: KeyboardEvent, id: string, at: number) {
  if (!event.shiftKey || !['ArrowLeft', 'ArrowRight'].includes(event.key)) return
  event.preventDefault()
  emit('move', id, at + (event.key === 'ArrowLeft' ? -1 : 1))
}
const titleOf = (column: ColumnView, at: number) =>
  `${at + 1}. ${column.name}${column.role ? `, ${column.role}` : ''}: drag it (or Shift and an arrow) to change who ` +
  'goes first; click two for the close view'
</script>

<template>
  <div data-hint="columns" class="columns" :class="{ narrow: columns.length > 11 }" @pointerleave="emit('point', null)">
    <div v-for="(column, at) in columns" :key="column.id" class="column" data-test="column" :data-name="column.name">
      <button
        class="head"
        :class="{ over: overAt === at && draggedId !== column.id }"
        draggable="true"
        data-test="column-head"
        :aria-pressed="pairIds.includes(column.id)"
        :title="titleOf(column, at)"
        @click="emit('pick', column.id)"
        @keydown="key($event, column.id, at)"
        @dragstart="draggedId = column.id"
        @dragover.prevent="overAt = at"
        @dragleave="overAt = -1"
        @drop.prevent="dropped(at)"
        @dragend="draggedId = null">
        <span class="figures at">{{ at + 1 }}</span><span class="name">{{ column.name }}</span>
        <span v-if="clash && marks(column.id)" class="part">{{
          clash.hidden === column.id ? 'is hidden' : 'hides it'
        }}</span>
      </button>
      <div
        class="picture"
        data-test="cell"
        role="img"
        :aria-label="`${column.name}: press to hear a slice`"
        @pointerdown.prevent="press($event, column.id)"
        @pointerup="emit('release')"
        @pointercancel="emit('release')"
        @pointermove="emit('point', place($event).hz)">
        <ColumnPicture
          v-if="pictures.get(column.id)"
          :picture="pictures.get(column.id)!"
          :edges="edges"
          :n-times="nTimes"
          :hidden-from="view.hidden_from ?? 0"
          :frequency="wholeAxis" />
        <PositionLine :seconds="position" :start-s="span.startS" :end-s="span.endS" />
        <div
          v-if="clash && marks(column.id)"
          class="region"
          :class="{ hidden: clash.hidden === column.id }"
          data-test="region"
          :style="{ top: part(clash.high_hz), bottom: `calc(100% - ${part(clash.low_hz)})` }"></div>
      </div>
    </div>
    <div
      v-if="pointerHz !== null"
      class="pointer"
      :style="{ top: `calc(44px + (100% - 44px) * ${yOfHz(pointerHz, wholeAxis, 1)})` }"></div>
  </div>
</template>

<style scoped>
.columns {
  position: relative;
  display: flex;
  min-width: 0;
  min-height: 0;
  height: 100%;
  overflow-x: auto;
}
.column {
  flex: 1 1 0;
  min-width: 34px;
  display: flex;
  flex-direction: column;
  border-right: 1px solid var(--line);
}
.head {
  height: 44px;
  flex: none;
  font: inherit;
  font-size: 0.7812rem;
  line-height: 1.15;
  color: inherit;
  background: none;
  border: 0;
  border-bottom: 1.5px solid var(--ink);
  text-align: left;
  padding: 3px 4px;
  cursor: grab;
  overflow: hidden;
  display: block;
}
.head[aria-pressed='true'] {
  background: var(--paper-sunk);
  box-shadow: inset 0 -3px 0 var(--ink);
}
.head.over {
  border-left: 4px solid var(--ink);
}
.at {
  color: var(--ink-soft);
  margin-right: 4px;
}
.name {
  font-weight: 700;
}
.part {
  display: block;
  color: var(--slate);
  font-weight: 700;
}
.narrow .head {
  padding: 2px 1px;
  font-size: 0.6562rem;
  line-height: 1;
}
.narrow .at {
  display: block;
}
.picture {
  position: relative;
  flex: 1;
  min-height: 0;
  cursor: pointer;
  touch-action: none;
  overflow: hidden;
}
.region {
  position: absolute;
  left: 0;
  right: 0;
  border: 2px dashed var(--slate);
  border-width: 2px 0;
  pointer-events: none;
}
.region.hidden {
  border-style: solid;
}
.pointer {
  position: absolute;
  left: 0;
  right: 0;
  height: 1px;
  background: var(--ink);
  pointer-events: none;
}
</style>
