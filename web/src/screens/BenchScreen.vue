<script setup lang="ts">
/** The bench: find a fault of one track by eye and by sweeping, cut it, compare. */
import { useBench, useHunt, usePlay, useSession, useViews } from '../composables/work'
import { computed, onBeforeUnmount, onMounted, ref, useTemplateRef, watch } from 'vue'
import HoldButton from '../components/HoldButton.vue'
import LaneTools from '../panels/LaneTools.vue'
import MarginNotes from '../components/MarginNotes.vue'
import MoveHandle from '../components/MoveHandle.vue'
import NoteRuler from '../components/NoteRuler.vue'
import PositionLine from '../components/PositionLine.vue'
import SpectrogramLane from '../components/SpectrogramLane.vue'
import SpectrumLane from '../components/SpectrumLane.vue'
import SurveyRow from '../panels/SurveyRow.vue'
import TrackList from '../components/TrackList.vue'
import WaveformStrip from '../components/WaveformStrip.vue'
import {
  LEVEL_LOW_DB,
  hzOfY,
  scrollFrequency,
  scrollTime,
  timeOfX,
  wholeAxis,
  xOfLevel,
  yOfHz,
  zoomFrequency,
  zoomTime,
} from '../lib/axis'
import { setLedger } from '../lib/intents'
import { placeHz } from '../lib/moves'
import type { Suspect } from '../api/client'
import { formatDb, formatHz, midiToHz, noteOfHz } from '../lib/figures'
import { isTyping } from '../lib/keys'

const session = useSession()
const { about, state, chosen, chosenId, sound, edit } = session
const play = usePlay()
const {
  positionFrame,
  rate,
  probe,
  heldProbes,
  ledgerHeard,
  matched,
  matchDb,
  offcuts,
  sliceEntryId,
  match,
  alone,
  gains,
  playing,
} = play
const bench = useBench()
const hunting = useHunt()
const { pitch, behind, peaks, shownLive, shownAudio } = useViews()
const {
  frequency,
  time,
  pointerHz,
  entryId,
  entry,
  probeWidth,
  probeKind,
  markedHz,
  songS,
  loop,
  waveform,
  spectrum,
  response,
} = bench

const lanes = useTemplateRef<HTMLElement>('lanes')
const lane = useTemplateRef<HTMLElement>('lane')
const laneSize = ref({ width: 1, height: 1 })
let watcher: ResizeObserver | null = null

const MIN_LOOP_S = 0.2
/** What can be chosen here: a track of one channel has no left, right, mid or side. */
const kinds = computed(() => {
  const known = about.value.kinds
  return sound.value?.nChannels === 1
    ? known.map((kind) => ({ ...kind, figures: kind.figures.filter((figure) => figure.name !== 'channel') }))
    : known
})
const position = () => positionFrame.value / rate.value
const offsetS = computed(() => (sound.value?.startFrame ?? 0) / rate.value)
const lengthS = computed(() => (sound.value?.nFrames ?? 1) / rate.value)
const grid = computed(() => ({
  columns: about.value?.tile_columns ?? 256,
  rows: about.value?.tile_rows ?? 256,
  sampleRateHz: rate.value,
}))
/** What all moves do: the steady ones always, the others as they do it just now. */
const shownResponse = computed(() => {
  const steady = response.value?.steady_db ?? []
  const moving = playing.value && ledgerHeard.value ? bench.momentary.value : null
  return moving ? steady.map((db, index) => db + (moving[index] ?? 0)) : steady
})
const gainsNow = computed(
  () =>
    new Map(
      playing.value && gains.value?.track_id === chosen.value?.id
        ? gains.value?.moves.map((move) => [move.entry_id, move])
        : [],
    ),
)
const others = computed(() => {
  const session = state.value
  if (!session) return []
  return [...session.tracks, ...session.groups, session.master]
    .filter((one) => one.id !== chosen.value?.id)
    .map((one) => ({ id: one.id, name: one.name }))
})
const listenable = computed(() => others.value.filter((one) => one.id !== state.value?.master.id))
const PHASES =
  'Minimum phase: no delay, as hardware does it. Linear phase: the same magnitude, no phase shift; ' +
  'softens before attacks.'
const setPhase = (event: Event) => {
  const phase = (event.target as HTMLSelectElement).value as 'minimum' | 'linear'
  void bench.onStrip(`${phase === 'linear' ? 'Linear' : 'Minimum'} phase`, (strip) => [setLedger(strip, { phase })])
}
const shownHz = computed(() => probe.value?.hz ?? pointerHz.value)
const lineY = computed(() =>
  shownHz.value === null ? null : yOfHz(shownHz.value, frequency.value, laneSize.value.height),
)
const readout = computed(() => {
  const hz = shownHz.value
  if (hz === null) return null
  const note = noteOfHz(hz)
  return {
    hz: formatHz(hz),
    note: `${note.name} ${note.cents < 0 ? '−' : '+'}${Math.abs(note.cents)} ct`,
    excess: bench.excessAt(hz),
  }
})
const matchTold = computed(() => {
  if (!matched.value) return 'off'
  if (!match.value) return 'measuring'
  if (match.value.before.loudness_lufs == null) return 'nothing to match'
  return formatDb(matchDb.value)
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
  pointerHz.value = hzAt(event)
  if (probe.value) bench.setProbe(pointerHz.value)
  else if (pipeFollows) pipeHz.value = pointerHz.value
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
  else bench.lookAt(hzAt(event), timeAt(event))
}

function wheel(event: WheelEvent) {
  const turn = Math.abs(event.deltaY) >= Math.abs(event.deltaX) ? event.deltaY : event.deltaX
  const step = Math.sign(turn)
  if (!step) return
  if (probe.value) bench.widenProbe(step > 0 ? 1.15 : 1 / 1.15)
  else if (event.ctrlKey && event.shiftKey)
    time.value = zoomTime(time.value, timeAt(event), step > 0 ? 1.25 : 0.8, songS.value)
  else if (event.ctrlKey) frequency.value = zoomFrequency(frequency.value, hzAt(event), step > 0 ? 1.2 : 1 / 1.2)
  else if (event.shiftKey)
    time.value = scrollTime(time.value, step * 0.12 * (time.value.endS - time.value.startS), songS.value)
  else
    frequency.value = scrollFrequency(
      frequency.value,
      -step * 0.08 * Math.log2(frequency.value.highHz / frequency.value.lowHz),
    )
}

function timeAt(event: MouseEvent): number {
  const box = lanes.value?.querySelector('.spectrogram')?.getBoundingClientRect()
  return box ? timeOfX(event.clientX - box.left, time.value, box.width) : position()
}

function showAll() {
  frequency.value = wholeAxis
  time.value = { startS: 0, endS: songS.value }
}

function zoom(factor: number) {
  frequency.value = zoomFrequency(
    frequency.value,
    shownHz.value ?? (entry.value && placeHz(entry.value.move)) ?? 632,
    factor,
  )
}

const toggleLedger = () =>
  bench.onStrip(chosen.value?.ledger_on ? 'All moves off' : 'All moves on', (strip) => [
    setLedger(strip, { ledger_on: !strip.ledger_on }),
  ])

function nudgePointer(direction: 1 | -1, fine: boolean) {
  const from = pointerHz.value ?? 440
  pointerHz.value = Math.min(Math.max(from * 2 ** ((direction * (fine ? 2 : 20)) / 1200), 20), 20_000)
  if (probe.value) bench.setProbe(pointerHz.value)
}

const JUDGED = {
  cut: (one: Suspect) => hunting.answer(one, 'cut'),
  tame: (one: Suspect) => hunting.answer(one, 'tame'),
  wanted: hunting.wanted,
  'no-fault': hunting.noFault,
}
const judge = (how: keyof typeof JUDGED, one: Suspect) => JUDGED[how](one)
const judgeChosen = (how: keyof typeof JUDGED) => hunting.suspect.value && judge(how, hunting.suspect.value)
const huntedStretch = computed(() => ({
  startS: hunting.result.value?.start_s ?? 0,
  endS: hunting.result.value?.end_s ?? songS.value,
}))
const huntTold = computed(() => {
  if (hunting.finding.value) return 'listening …'
  if (hunting.problem.value) return hunting.problem.value
  const result = hunting.result.value
  if (!result) return loop.value ? 'in the loop' : 'in the whole song'
  const n = hunting.suspects.value.length
  return `${n || 'no'} suspect${n === 1 ? '' : 's'}${hunting.stale.value ? ', of another stretch' : ''}`
})

const picked = ref<ReadonlySet<string>>(new Set())
watch(
  () => chosen.value?.id,
  () => (picked.value = new Set()),
)
/** Those of the picked moves that are still there. */
const pickedNow = computed(
  () => new Set(chosen.value?.ledger.map((one) => one.id).filter((id) => picked.value.has(id))),
)
const copyWords = computed(() => (pickedNow.value.size ? `copy ${pickedNow.value.size} picked to` : 'copy all to'))

function pick(id: string) {
  picked.value = pickedNow.value.has(id)
    ? new Set([...pickedNow.value].filter((one) => one !== id))
    : new Set([...pickedNow.value, id])
}

/** Copy what is picked, or all moves where nothing is. */
function copyPicked(event: Event) {
  const select = event.target as HTMLSelectElement
  const ids = pickedNow.value.size ? [...pickedNow.value] : (chosen.value?.ledger.map((one) => one.id) ?? [])
  if (select.value) void bench.copyMoves(ids, select.value)
  select.value = ''
  picked.value = new Set()
}

const PROBED = { lift: 'lifted', dip: 'dipped', only: 'only this' }
const probeTold = ({ kind = 'lift', amount_db = 15 }: { kind?: keyof typeof PROBED; amount_db?: number }) =>
  kind === 'only' ? PROBED.only : `${PROBED[kind]} ${amount_db} dB`
const PROBES = [
  ['lift', 'Hold on the spectrum to lift what is under the pointer'],
  ['dip', 'Hold to take it away: what you miss then, keep with P'],
  ['only', 'Hold to hear just that slice'],
] as const
const { pipeHz } = play

/** Mark the overtones of the piano note that was clicked. */
function markNote(event: MouseEvent) {
  markedHz.value = midiToHz(Math.round(69 + 12 * Math.log2(hzAt(event) / 440)))
}

const markedTold = computed(() => {
  if (markedHz.value === null) return ''
  const { name, cents } = noteOfHz(markedHz.value)
  return cents === 0 ? name : `${formatHz(markedHz.value)}, ${name} ${cents > 0 ? '+' : '−'}${Math.abs(cents)} ct,`
})

/** The pitch pipe at a note, or, without one, wherever the pointer goes. */
let pipeFollows = false
function pipe(on: boolean, hz?: number) {
  pipeFollows = on && hz === undefined
  pipeHz.value = on ? (hz ?? pointerHz.value ?? markedHz.value ?? 440) : null
  if (on && !playing.value) void play.play()
}

const KEYS: Record<string, () => void> = {
  p: () => bench.dropPin(),
  i: () => pipe(true),
  h: () => void hunting.hunt(),
  n: () => hunting.step(1),
  N: () => hunting.step(-1),
  1: () => hunting.audition('only'),
  2: () => hunting.audition('dip'),
  3: () => hunting.audition('lift'),
  4: () => hunting.audition('plain-then-gone'),
  x: () => judgeChosen('cut'),
  t: () => judgeChosen('tame'),
  k: () => judgeChosen('wanted'),
  d: () => judgeChosen('no-fault'),
  c: () => shownHz.value !== null && bench.addBell(shownHz.value),
  b: () => (ledgerHeard.value = !ledgerHeard.value),
  o: () => (offcuts.value = true),
  l: () => bench.setProbe(pointerHz.value ?? 440),
  '[': () =>
    bench.setLoop({ startS: position(), endS: Math.max(loop.value?.endS ?? songS.value, position() + MIN_LOOP_S) }),
  ']': () =>
    bench.setLoop({
      startS: Math.min(loop.value?.startS ?? 0, Math.max(position() - MIN_LOOP_S, 0)),
      endS: position(),
    }),
  '+': () => zoom(1 / 1.5),
  '-': () => zoom(1.5),
  '0': showAll,
  Escape: () => {
    entryId.value = null
    heldProbes.value = []
  },
}

function keyDown(event: KeyboardEvent) {
  if (isTyping(event) || event.ctrlKey || event.metaKey || event.altKey) return
  const inMargin = event.target instanceof Element && event.target.closest('.margin')
  if ((event.key === 'ArrowUp' || event.key === 'ArrowDown') && !inMargin) {
    event.preventDefault()
    nudgePointer(event.key === 'ArrowUp' ? 1 : -1, event.shiftKey)
  } else if (!event.repeat) KEYS[event.key]?.()
}

function keyUp(event: KeyboardEvent) {
  if (event.key === 'o') offcuts.value = false
  if (event.key === 'l') release()
  if (['1', '2', '3', '4'].includes(event.key)) hunting.audition(null)
  if (event.key === 'i') pipe(false)
}

function letGo() {
  pipe(false)
  offcuts.value = false
  sliceEntryId.value = null
  hunting.audition(null)
}

onMounted(() => {
  window.addEventListener('keydown', keyDown)
  window.addEventListener('keyup', keyUp)
  window.addEventListener('blur', letGo)
  watcher = new ResizeObserver(() => {
    if (lane.value) laneSize.value = { width: lane.value.clientWidth, height: lane.value.clientHeight }
  })
  if (lane.value) watcher.observe(lane.value)
})
onBeforeUnmount(() => {
  window.removeEventListener('keydown', keyDown)
  window.removeEventListener('keyup', keyUp)
  window.removeEventListener('blur', letGo)
  watcher?.disconnect()
  letGo()
})
</script>

<template>
  <div v-if="!chosen" class="nothing">
    This session has no tracks yet. <RouterLink :to="`/session/${state?.id}/gather`">Gather some.</RouterLink>
  </div>
  <div v-else class="bench">
    <TrackList
      v-if="state"
      :tracks="state.tracks"
      :groups="state.groups"
      :master="state.master"
      :chosen-id="chosen.id"
      :columns="grid.columns"
      :rate="rate"
      :length-of="session.lengthOf"
      @choose="chosenId = $event"
      @edit="edit" />
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
        :view="frequency"
        :marked-hz="markedHz"
        title="Click a note: its overtones are marked"
        @click="markNote" />
      <div v-if="markedHz !== null" class="marked" :style="{ top: `${yOfHz(markedHz, frequency, laneSize.height)}px` }">
        {{ markedTold }} and its overtones
        <HoldButton
          data-test="pipe"
          title="Hold to hear it as a soft tone (I does the same at the pointer)"
          @click.stop
          @hold="pipe(true, markedHz)"
          @release="pipe(false)"
          >pitch pipe</HoldButton
        >
        <button
          class="plain boxed"
          data-test="family"
          title="One move for the note and its overtones"
          @click.stop="bench.addFamily(markedHz)">
          note family
        </button>
        <button class="plain" aria-label="No longer mark them" @click.stop="markedHz = null">×</button>
      </div>
      <div
        class="spectrogram"
        data-test="spectrogram"
        title="Click a spot: loops around it and pins it; Shift-click: play from there"
        @click="spot">
        <SpectrogramLane
          v-if="sound"
          :audio-id="shownAudio.id"
          :before-id="shownAudio.beforeId"
          :pitch="pitch"
          :suspects="hunting.suspects.value"
          :suspect-id="hunting.suspectId.value"
          :offset-s="offsetS"
          :length-s="lengthS"
          :time="time"
          :frequency="frequency"
          :grid="grid"
          :loop="loop" />
        <p v-else class="coming soft" role="status">its sound is being put together …</p>
        <PositionLine :seconds="position" :start-s="time.startS" :end-s="time.endS" />
        <LaneTools of="spectrogram" :has-moves="chosen.ledger.length > 0" :others="others" @note="markedHz = $event" />
      </div>
      <div
        ref="lane"
        class="spectrum"
        data-test="spectrum"
        tabindex="0"
        aria-label="Spectrum: hold to lift, P pins, arrow keys move the pointer"
        @pointerdown="lift"
        @pointerup="letStand"
        @pointercancel="release"
        @dblclick="bench.addBell(hzAt($event))">
        <SpectrumLane
          :hz="about?.axis_hz ?? []"
          :before="spectrum?.level_db ?? []"
          :outline="spectrum?.outline_db ?? []"
          :far-outline="spectrum?.far_outline_db ?? []"
          :behind="behind?.level_db ?? null"
          :peaks="peaks"
          :held-probes="heldProbes"
          :often="spectrum?.often_db ?? []"
          :seldom="spectrum?.seldom_db ?? []"
          :highest="spectrum?.highest_db ?? []"
          :response="shownResponse"
          :full="bench.fullResponse.value"
          :live="shownLive"
          :frequency="frequency"
          :probe="probe"
          :suspects="hunting.suspects.value"
          :suspect-id="hunting.suspectId.value" />
        <LaneTools of="spectrum" :has-moves="chosen.ledger.length > 0" :others="others" />
        <MoveHandle
          v-for="one in chosen.ledger"
          :key="one.id"
          :move="one.move"
          :kinds="kinds"
          :chosen="one.id === entryId"
          :x="xAt(placeHz(one.move))"
          :width="laneSize.width"
          :height="laneSize.height"
          :frequency="frequency"
          :title="formatHz(placeHz(one.move))"
          @choose="entryId = one.id"
          @preview="bench.previewMove(one.id, $event)"
          @done="(move, label) => bench.changeMove(one.id, move, label)" />
      </div>
      <template v-if="lineY !== null && readout">
        <div class="line" :class="{ lifting: probe }" :style="{ top: `${lineY}px` }"></div>
        <div
          class="readout figures"
          data-test="readout"
          :class="{ lifting: probe, below: lineY < 46 }"
          :style="{ top: `${lineY}px` }">
          <strong>{{ readout.hz }}</strong> {{ readout.note }}
          <div v-if="readout.excess !== null" class="soft">
            {{ readout.excess > 0.5 ? `stands out ${readout.excess.toFixed(1)} dB here` : 'does not stand out here' }}
          </div>
          <div v-if="probe">{{ probeTold(probe) }}, {{ probeWidth.toFixed(2) }} oct</div>
          <div v-else-if="pipeHz !== null">pitch pipe</div>
        </div>
      </template>
    </div>
    <section class="side">
      <div class="head">
        <button
          class="plain boxed find"
          data-test="find"
          :disabled="hunting.finding.value"
          title="Look for what behaves like a fault, in the loop or in the whole song (H)"
          @click="hunting.hunt()">
          find suspects
        </button>
        <span class="soft told" data-test="found">{{ huntTold }}</span>
      </div>
      <div class="head">
        <label
          ><span class="soft">steady moves in</span>
          <select :value="chosen.phase" aria-label="Phase" data-test="phase" :title="PHASES" @change="setPhase">
            <option value="minimum">minimum phase</option>
            <option value="linear">linear phase</option>
          </select></label
        >
        <select
          v-if="chosen.ledger.length > 1"
          class="all"
          aria-label="Copy moves to"
          title="Copy all moves of this ledger, or those picked with Shift and a click, to another track or group"
          @change="copyPicked">
          <option value="">{{ copyWords }}</option>
          <option v-for="other in others" :key="other.id" :value="other.id">{{ other.name }}</option>
        </select>
      </div>
      <SurveyRow />
      <MarginNotes
        class="notes"
        :ledger="[...(chosen.ledger ?? [])]"
        :pins="[...(chosen.pins ?? [])]"
        :keepers="[...(chosen.keepers ?? [])]"
        :suspects="hunting.suspects.value"
        :suspect-id="hunting.suspectId.value"
        :stretch="huntedStretch"
        :cure="hunting.cure.value"
        :loss="hunting.loss.value"
        :kinds="kinds"
        :frequency="frequency"
        :lane-height="laneSize.height"
        :chosen-id="entryId"
        :picked-ids="pickedNow"
        :heard-id="sliceEntryId"
        :ledger-on="chosen.ledger_on ?? true"
        :others="listenable"
        :sections="bench.sections.value"
        :loop="loop"
        :gains="gainsNow"
        :not-linear="bench.notInLinearPhase.value"
        @choose-suspect="hunting.suspectId.value = $event"
        @hear-suspect="hunting.audition"
        @judge="judge"
        @loop="hunting.setLoop"
        @choose="entryId = $event"
        @pick="pick"
        @change="bench.changeMove"
        @hear="sliceEntryId = $event"
        @duplicate="bench.duplicateMove"
        @remove="bench.removeMove"
        @remove-pin="bench.removePin"
        @answer-pin="bench.answerPin"
        @keep-pin="bench.keepPin"
        @remove-keeper="bench.removeKeeper"
        @preview="bench.previewMove"
        @copy="(id, target) => bench.copyMoves([id], target)"
        @add="bench.addBell" />
    </section>
    <div class="bottom">
      <WaveformStrip
        class="strip"
        :waveform="waveform"
        :offset-s="offsetS"
        :length-s="lengthS"
        :song-s="songS"
        :loop="loop"
        :position="position"
        :shown="time"
        :sections="bench.sections.value"
        @loop="bench.setLoop"
        @name="bench.nameSection"
        @remove-section="bench.removeSection"
        @seek="play.seek($event * rate)" />
      <section class="compare" aria-label="Compare">
        <div class="row">
          <div class="pair" role="group" aria-label="Before or after">
            <button
              class="plain boxed"
              data-test="before"
              :aria-pressed="!ledgerHeard"
              title="Hear it without its moves (B)"
              @click="ledgerHeard = false">
              before
            </button>
            <button
              class="plain boxed"
              data-test="after"
              :aria-pressed="ledgerHeard"
              title="Hear it with its moves (B)"
              @click="ledgerHeard = true">
              after
            </button>
          </div>
          <HoldButton
            :aria-pressed="offcuts"
            title="Hold to hear exactly what the moves take away (O)"
            @hold="offcuts = true"
            @release="offcuts = false"
            >offcuts</HoldButton
          >
          <button
            class="plain boxed"
            data-test="all-off"
            :disabled="!chosen.ledger.length"
            :aria-pressed="!chosen.ledger_on"
            title="Switch all moves of this track off or on, for hand-over too"
            @click="toggleLedger">
            all off
          </button>
          <label class="match"
            ><input v-model="matched" type="checkbox" /> level-matched
            <span class="figures" data-test="match">{{ matchTold }}</span></label
          >
        </div>
        <p class="soft keys">
          {{ alone ? 'Alone' : 'In the mix' }}, {{ ledgerHeard ? 'with' : 'without' }} its moves. Hold on the spectrum
          (or L):
          <button
            v-for="[kind, says] in PROBES"
            :key="kind"
            class="plain kind"
            :aria-pressed="probeKind === kind"
            :title="says"
            @click="probeKind = kind">
            {{ kind }}</button>; with Shift it stays. Hold I: pitch pipe; P: pin; C: cut; [ and ]: loop from here, to
          here; wheel: scroll, with Ctrl: zoom, with Shift: time.
          <button class="plain" @click="zoom(1 / 1.5)">closer</button
          ><button class="plain" @click="zoom(1.5)">wider</button
          ><button class="plain" @click="showAll">show all</button>
        </p>
      </section>
    </div>
  </div>
</template>

<style scoped>
.nothing {
  padding: 60px;
}
.bench {
  height: 100%;
  display: grid;
  grid-template: minmax(0, 1fr) 92px / 172px minmax(0, 1fr) 276px;
}
.lanes {
  position: relative;
  display: grid;
  grid-template-columns: 58px minmax(0, 1fr) 262px;
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
.line {
  position: absolute;
  left: 0;
  right: 0;
  height: 1px;
  background: var(--ink);
  pointer-events: none;
}
.line.lifting {
  background: var(--ochre);
  height: 2px;
  margin-top: -1px;
}
.readout {
  position: absolute;
  right: 270px;
  transform: translateY(calc(-100% - 3px));
  padding: 2px 7px;
  background: var(--paper-raised);
  border: 1px solid var(--ink-soft);
  pointer-events: none;
  white-space: nowrap;
  line-height: 1.3;
}
.readout.below {
  transform: translateY(4px);
}
.readout.lifting {
  border: 2px solid var(--ochre);
}
.head {
  display: flex;
  flex-wrap: wrap;
  align-items: baseline;
  gap: 6px;
  padding: 4px 6px 3px 24px;
  border-bottom: 1px solid var(--line);
  font-size: 12.5px;
  white-space: nowrap;
}
.head select {
  font: inherit;
  color: var(--ink);
  background: transparent;
  border: 0;
  border-bottom: 1px solid var(--ink-soft);
}
.marked {
  position: absolute;
  left: 62px;
  transform: translateY(-50%);
  background: var(--paper-raised);
  border: 1px solid var(--ink-soft);
  padding: 1px 6px;
  font-size: 12.5px;
  z-index: 2;
  white-space: nowrap;
}
.marked .plain {
  font-size: 12.5px;
  padding: 0 5px;
}
.keys .kind {
  text-decoration: none;
  padding: 0 3px;
  border: 0;
}
.keys .kind[aria-pressed='true'] {
  font-weight: 700;
  color: var(--ochre);
  background: none;
  text-decoration: underline;
}
.told {
  white-space: normal;
}
.find {
  font-weight: 700;
}
.head .all {
  margin-left: auto;
  field-sizing: content;
  max-width: 124px;
}
.head option {
  background: var(--paper);
}
.notes {
  flex: 1;
  min-height: 0;
}
.side {
  display: flex;
  flex-direction: column;
  min-height: 0;
  min-width: 0;
}
.bottom {
  grid-column: 1 / -1;
  display: grid;
  grid-template: minmax(0, 1fr) / minmax(0, 1fr) 530px;
  border-top: 1.5px solid var(--ink);
  min-height: 0;
}
.strip {
  padding: 4px 0 0 8px;
}
.compare {
  padding: 6px 8px 4px 12px;
  min-width: 0;
}
.row {
  display: flex;
  gap: 8px;
  align-items: center;
  white-space: nowrap;
}
.pair {
  display: flex;
}
.pair button + button {
  margin-left: -1px;
}
.match {
  display: flex;
  gap: 4px;
  align-items: center;
  cursor: pointer;
}
.keys {
  margin: 4px 0 0;
  font-size: 13px;
  line-height: 1.25;
}
.keys .plain {
  padding: 0 5px;
  text-decoration: underline;
}
</style>
