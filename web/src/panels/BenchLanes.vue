<script setup lang="ts">
/** The lanes of the bench: spectrogram and spectrum along one axis, where faults are seen, held and cut. */
import { computed, onBeforeUnmount, onMounted, useTemplateRef } from 'vue'
import MoveHandle from '../components/MoveHandle.vue'
import NoteRuler from '../components/NoteRuler.vue'
import PositionLine from '../components/PositionLine.vue'
import SpectrogramLane from '../components/SpectrogramLane.vue'
import SpectrumLane from '../components/SpectrumLane.vue'
import { useBench, useEdits, useHunt, usePlay, useSession, useSurvey, useViews } from '../composables/work'
import { LEVEL_LOW_DB, hzOfY, stepOf, timeOfX, turned, xOfLevel } from '../lib/axis'
import { formatHz, midiToHz } from '../lib/figures'
import { placeHz } from '../lib/moves'
import LaneTools from './LaneTools.vue'
import MarkedNote from './MarkedNote.vue'
import PointerReadout from './PointerReadout.vue'

const { about, chosen, sound, pictureUrl } = useSession()
const play = usePlay()
const { positionFrame, rate, probe, heldProbes } = play
const bench = useBench()
const { frequency, time, pointerHz, laneSize, entryId, kinds, others, markedHz, songS, loop } = bench
const { spectrum, shownResponse, fullResponse } = bench
const edits = useEdits()
const { suspects, suspectId } = useHunt()
const { taken } = useSurvey()
const { placeCurve, pitch, behind, peaks, shownLive, shows, shownContent, waits } = useViews()

const lanes = useTemplateRef<HTMLElement>('lanes')
const lane = useTemplateRef<HTMLElement>('lane')
let watcher: ResizeObserver | null = null
const position = () => positionFrame.value / rate.value
const offsetS = computed(() => (sound.value?.startFrame ?? 0) / rate.value)
const lengthS = computed(() => (sound.value?.nFrames ?? 1) / rate.value)
const grid = computed(() => ({
  columns: about.value?.tile_columns ?? 256,
  rows: about.value?.tile_rows ?? 256,
  sampleRateHz: rate.value,
}))
const drafts = computed(() => taken.value.map(({ cut }) => cut))
/** What the move that is open has learned. */
const learned = computed(() => {
  const move = bench.entry.value?.move
  return move && 'places' in move ? (move.places as [number, number][]) : []
})
/** Where the treated spectrum stands at a frequency, in pixels. */
function xAt(hz: number): number {
  const axis = about.value?.axis_hz ?? []
  const index = Math.min(
    Math.max(
      Math.round(
        (Math.log2(hz / (axis[0] ?? 20)) / Math.log2((axis.at(-1) ?? 20_000) / (axis[0] ?? 20))) * (axis.length - 1),
      ),
      0,
    ),
    axis.length - 1,
  )
  return xOfLevel(
    (spectrum.value?.level_db[index] ?? LEVEL_LOW_DB) + (shownResponse.value[index] ?? 0),
    laneSize.value.width,
  )
}

const hzAt = (event: MouseEvent) => {
  const box = lane.value?.getBoundingClientRect()
  return box ? hzOfY(event.clientY - box.top, frequency.value, box.height) : 20
}

function point(event: PointerEvent) {
  bench.pointAt(hzAt(event))
}

function leave() {
  if (!probe.value) pointerHz.value = null
}

function lift(event: PointerEvent) {
  if (event.button !== 0) return
  ;(event.currentTarget as HTMLElement).setPointerCapture(event.pointerId)
  bench.setProbe(hzAt(event))
}

const release = () => bench.setProbe(null)

/** Let go of the probe; with Shift it stays, and another one can be added to it. */
function letStand(event: PointerEvent) {
  if (event.shiftKey) bench.holdProbe()
  release()
}

/** A click on a spot of the spectrogram looks at it: loop around it and pin it; with Shift, play goes on from there. */
function spot(event: MouseEvent) {
  if (event.shiftKey) play.seek(timeAt(event) * rate.value)
  else edits.lookAt(hzAt(event), timeAt(event))
}

function wheel(event: WheelEvent) {
  const step = stepOf(event)
  if (probe.value && step) bench.widenProbe(step > 0 ? 1.15 : 1 / 1.15)
  else {
    const view = turned(
      event,
      { time: time.value, frequency: frequency.value },
      timeAt(event),
      hzAt(event),
      songS.value,
    )
    time.value = view.time
    frequency.value = view.frequency
  }
}

function timeAt(event: MouseEvent): number {
  const box = lanes.value?.querySelector('.spectrogram')?.getBoundingClientRect()
  return box ? timeOfX(event.clientX - box.left, time.value, box.width) : position()
}

/** Mark the overtones of the piano note that was clicked. */
function markNote(event: MouseEvent) {
  markedHz.value = midiToHz(Math.round(69 + 12 * Math.log2(hzAt(event) / 440)))
}

onMounted(() => {
  watcher = new ResizeObserver(() => {
    if (lane.value) laneSize.value = { width: lane.value.clientWidth, height: lane.value.clientHeight }
  })
  if (lane.value) watcher.observe(lane.value)
})
onBeforeUnmount(() => watcher?.disconnect())
</script>

<template>
  <div
    ref="lanes"
    class="lanes"
    :class="{ probing: probe }"
    @pointermove="point"
    @pointerleave="leave"
    @wheel.prevent="wheel">
    <NoteRuler
      class="ruler"
      data-test="ruler"
      data-hint="ruler"
      :view="frequency"
      :marked-hz="markedHz"
      title="Click a note: its overtones are marked"
      @click="markNote" />
    <MarkedNote />
    <div
      class="spectrogram"
      data-test="spectrogram"
      data-hint="spectrogram"
      title="Click a spot: loops around it and pins it; Shift-click: play from there"
      @click="spot">
      <SpectrogramLane
        v-if="sound"
        :strip-id="sound.stripId"
        :shows="shows"
        :content="shownContent"
        :address="pictureUrl"
        label="Spectrogram of the chosen track"
        :pitch="pitch"
        :suspects="suspects"
        :suspect-id="suspectId"
        :offset-s="offsetS"
        :length-s="lengthS"
        :time="time"
        :frequency="frequency"
        :grid="grid"
        :loop="loop"
        @waits="waits = $event" />
      <PositionLine :seconds="position" :start-s="time.startS" :end-s="time.endS" />
      <LaneTools of="spectrogram" :has-moves="!!chosen?.ledger.length" :others="others" @note="markedHz = $event" />
    </div>
    <div
      ref="lane"
      class="spectrum"
      data-test="spectrum"
      data-hint="spectrum"
      tabindex="0"
      aria-label="Spectrum: hold to lift, P pins, arrow keys move the pointer"
      @pointerdown="lift"
      @pointerup="letStand"
      @pointercancel="release"
      @dblclick="edits.addBell(hzAt($event))">
      <SpectrumLane
        :hz="about?.axis_hz ?? []"
        :spectrum="spectrum"
        :behind="behind"
        :peaks="peaks"
        :held-probes="heldProbes"
        :response="shownResponse"
        :full="fullResponse"
        :live="shownLive"
        :frequency="frequency"
        :probe="probe"
        :suspects="suspects"
        :suspect-id="suspectId"
        :drafts="drafts"
        :places="learned"
        :place-curve="placeCurve" />
      <LaneTools of="spectrum" :has-moves="!!chosen?.ledger.length" :others="others" />
      <MoveHandle
        v-for="one in chosen?.ledger"
        :key="one.id"
        :move="one.move"
        :kinds="kinds"
        :chosen="one.id === entryId"
        :x="xAt(placeHz(kinds, one.move) ?? 0)"
        :width="laneSize.width"
        :height="laneSize.height"
        :frequency="frequency"
        :title="formatHz(placeHz(kinds, one.move) ?? 0)"
        @choose="entryId = one.id"
        @preview="edits.previewMove(one.id, $event)"
        @done="(move, label) => edits.changeMove(one.id, move, label)" />
    </div>
    <PointerReadout />
  </div>
</template>

<style scoped>
.lanes {
  position: relative;
  display: grid;
  /* No higher than there is room, whatever is drawn in them was made for. */
  grid-template: minmax(0, 1fr) / 58px minmax(0, 1fr) min(16.375rem, 22vw);
  min-height: 0;
  min-width: 0;
  overflow: hidden;
}
.ruler {
  border-right: 1px solid var(--line);
}
.spectrogram {
  position: relative;
  min-width: 0;
  cursor: crosshair;
}
.spectrum {
  position: relative;
  border-left: 1px solid var(--ink-soft);
  border-right: 1px solid var(--ink-soft);
  cursor: ns-resize;
  touch-action: none;
  overflow: hidden;
}
</style>
