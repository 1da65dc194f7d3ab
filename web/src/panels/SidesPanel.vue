<script setup lang="ts">
/** Before and after, two treatments, or a reference, on one axis; what is under the pointer is heard on either side. */
import { computed, onBeforeUnmount, onMounted, ref, shallowRef, watch } from 'vue'
import type { Probe, Treatment } from '../api/client'
import HoldButton from '../components/HoldButton.vue'
import NoteRuler from '../components/NoteRuler.vue'
import PositionLine from '../components/PositionLine.vue'
import SpectrogramLane from '../components/SpectrogramLane.vue'
import SpectrumLane from '../components/SpectrumLane.vue'
import StripSelect from '../components/StripSelect.vue'
import { useRead } from '../api/reads'
import { useBench, usePlay, useSession, useTreatments } from '../composables/work'
import { hzOfY, timeOfX, turned, wholeAxis, yOfHz, type TimeView } from '../lib/axis'
import { formatHz, noteOfHz } from '../lib/figures'
import { lastingStripsOf } from '../lib/intents'
import FiguresTable from '../components/FiguresTable.vue'
import MaskingTable from './MaskingTable.vue'

const session = useSession()
const { about, id, state, treatment, version, chosenId } = session
const play = usePlay()
const treatments = useTreatments()
const { songS, loop } = useBench()

const MIX = 'mix'
const ONLY_OCTAVES = 0.5
const stripId = ref(MIX)
const subjects = computed(() => [
  { id: MIX, name: 'the whole mix' },
  ...lastingStripsOf(state.value).filter((one) => one.id !== state.value.master.id),
])
/** What it is compared with: nothing done, the letter of a treatment, or the id of a reference. */
const withWhat = ref('')
const choices = computed(() => [
  { id: '', name: 'without moves' },
  ...state.value.treatments
    .filter((one) => one.letter !== treatment.value)
    .map((one) => ({ id: one.letter as string, name: `treatment ${one.letter}${one.name ? `, ${one.name}` : ''}` })),
  ...(state.value.references ?? []).map((one) => ({ id: one.id, name: one.name })),
])
watch(choices, (now) => {
  if (!now.some((one) => one.id === withWhat.value)) withWhat.value = ''
})
const reference = computed(() => state.value.references?.find((one) => one.id === withWhat.value) ?? null)
const asked = computed(() => ({
  strip_id: stripId.value === MIX ? null : stripId.value,
  compared: reference.value
    ? ('reference' as const)
    : withWhat.value
      ? ('treatments' as const)
      : ('all-moves' as const),
  other: reference.value || !withWhat.value ? null : (withWhat.value as Treatment),
  reference_id: reference.value?.id ?? null,
}))
const beforeName = computed(() => choices.value.find((one) => one.id === withWhat.value)?.name ?? '')
const afterName = computed(() =>
  state.value.treatments.length > 1 ? `treatment ${treatment.value}` : reference.value ? 'ours' : 'with all moves',
)
const content = computed(() => `${version.value} ${JSON.stringify(asked.value)}`)
const { answer, problem, waiting } = useRead(
  'sides',
  () => ({ question: asked.value, version: version.value }),
  ({ question }, signal) => session.analyse('sides', question, signal),
  () => [id, JSON.stringify(asked.value)],
)
const address: InstanceType<typeof SpectrogramLane>['$props']['address'] = (_, shows, place, signal) =>
  session.sidePictureUrl(asked.value, shows, place, signal)

/** Both are rendered side by side as long as they are looked at. */
const wasAlone = play.alone.value
watch(
  asked,
  ({ strip_id, compared, other, reference_id }) => {
    if (strip_id) chosenId.value = strip_id
    play.alone.value = strip_id !== null
    play.beside.value = { what: compared, other, reference_id, heard: false }
  },
  { immediate: true },
)
onBeforeUnmount(() => {
  play.beside.value = null
  play.alone.value = wasAlone
})

const time = shallowRef<TimeView>({ startS: 0, endS: Math.max(songS.value, 1) })
const frequency = shallowRef(wholeAxis)
onMounted(() => {
  if (loop.value) time.value = { startS: loop.value.startS, endS: loop.value.endS }
})
const pointerHz = ref<number | null>(null)
const LANES = ['before', 'after', 'difference'] as const
type Lane = (typeof LANES)[number]
const grid = computed(() => ({
  columns: about.value.tile_columns,
  rows: about.value.tile_rows,
  sampleRateHz: play.rate.value,
}))
const lengthS = computed(() => play.songFrames.value / play.rate.value)
const position = () => play.positionFrame.value / play.rate.value
const boxOf = (event: MouseEvent) => (event.currentTarget as HTMLElement).getBoundingClientRect()
const hzAt = (event: MouseEvent, box = boxOf(event)) => hzOfY(event.clientY - box.top, frequency.value, box.height)
const timeAt = (event: MouseEvent, box = boxOf(event)) => timeOfX(event.clientX - box.left, time.value, box.width)
function wheel(event: WheelEvent) {
  const view = turned(event, { time: time.value, frequency: frequency.value }, timeAt(event), hzAt(event), songS.value)
  time.value = view.time
  frequency.value = view.frequency
}

/** Hold to hear one side, from the time under the pointer or where it is; what played before plays on afterwards. */
let wasPlaying = false
function hear(side: Lane, atS?: number) {
  const beside = play.beside.value
  if (!beside) return
  wasPlaying = play.playing.value
  play.beside.value = { ...beside, heard: side === 'before' }
  if (atS !== undefined || !wasPlaying)
    void play.play(atS === undefined ? undefined : Math.round(atS * play.rate.value))
}
function press(event: PointerEvent, side: Lane) {
  if (event.button !== 0) return
  ;(event.currentTarget as HTMLElement).setPointerCapture(event.pointerId)
  if (event.shiftKey) play.probe.value = onlyAt(hzAt(event), side)
  hear(side, Math.max(timeAt(event), 0))
}
/** What lies around a frequency of a side; a reference is always heard whole, through the mix. */
function onlyAt(hz: number, side: Lane): Probe {
  const ofMix = stripId.value === MIX || (reference.value !== null && side === 'before')
  const track_id = ofMix ? state.value.master.id : stripId.value
  return { track_id, kind: 'only', hz: Math.min(Math.max(hz, 20), 20_000), amount_db: 15, width_octaves: ONLY_OCTAVES }
}
function release() {
  play.probe.value = null
  const beside = play.beside.value
  if (beside) play.beside.value = { ...beside, heard: false }
  if (!wasPlaying) play.stop()
}
const response = computed(() => {
  const now = answer.value
  return now && !reference.value ? now.after_db.map((db, at) => db - (now.before_db[at] ?? db)) : []
})
const drawn = computed(() => {
  const now = answer.value
  return now ? { level_db: reference.value ? now.after_db : now.before_db } : null
})
const readout = computed(() => {
  if (pointerHz.value === null) return ''
  const { name, cents } = noteOfHz(pointerHz.value)
  return `${formatHz(pointerHz.value)}  ${name} ${cents < 0 ? '−' : '+'}${Math.abs(cents)} ct`
})
const TOLD = computed<Record<Lane, string>>(() => ({
  before: beforeName.value,
  after: afterName.value,
  difference: 'between them',
}))
</script>

<template>
  <section class="sides" data-hint="sides" aria-label="Before and after">
    <p class="row">
      <label>Of <StripSelect v-model="stripId" :strips="subjects" label="Of what" data-test="sides-of" /></label>
      <label
        >beside it <StripSelect v-model="withWhat" :strips="choices" label="Beside what" data-test="sides-with"
      /></label>
      <HoldButton data-test="hear-before" @hold="hear('before')" @release="release">hold: {{ beforeName }}</HoldButton>
      <HoldButton data-test="hear-after" @hold="hear('after')" @release="release">hold: {{ afterName }}</HoldButton>
      <span class="soft">or press on a picture: it plays from there, with Shift only what lies there</span>
      <button v-if="treatments.free.value" class="plain" data-test="sides-make" @click="treatments.makeOf(treatment)">
        make treatment {{ treatments.free.value }} from {{ treatment }}
      </button>
    </p>
    <p v-if="problem" class="problem" role="alert">{{ problem }}</p>
    <div class="lanes" @pointerleave="pointerHz = null">
      <span></span>
      <h2 v-for="lane in LANES" :key="lane">{{ TOLD[lane] }}</h2>
      <h2>
        <span v-if="readout" class="figures readout">{{ readout }}</span><template v-else>{{
          reference ? 'ours, theirs behind' : 'spectra'
        }}</template>
      </h2>
      <NoteRuler class="ruler" :view="frequency" />
      <div
        v-for="lane in LANES"
        :key="lane"
        class="lane"
        :data-test="`side-${lane}`"
        @pointermove="pointerHz = hzAt($event)"
        @pointerdown="press($event, lane)"
        @pointerup="release"
        @pointercancel="release"
        @wheel.prevent="wheel">
        <SpectrogramLane
          :strip-id="stripId"
          :shows="lane"
          :content="content"
          :address="address"
          :label="`Spectrogram: ${TOLD[lane]}`"
          :offset-s="0"
          :length-s="lengthS"
          :time="time"
          :frequency="frequency"
          :grid="grid"
          :loop="loop" />
        <PositionLine :seconds="position" :start-s="time.startS" :end-s="time.endS" />
        <div v-if="pointerHz !== null" class="line" :style="{ top: `${yOfHz(pointerHz, frequency, 100)}%` }"></div>
      </div>
      <div class="lane spectrum" @pointermove="pointerHz = hzAt($event)">
        <SpectrumLane
          :hz="answer?.hz ?? []"
          :spectrum="drawn"
          :behind="reference ? answer?.beside_db : null"
          :response="response"
          :frequency="frequency" />
        <div v-if="pointerHz !== null" class="line" :style="{ top: `${yOfHz(pointerHz, frequency, 100)}%` }"></div>
      </div>
    </div>
    <p class="soft legend">
      Between them: green is what was taken away, ink what was added. Spectra:
      {{ reference ? 'slate is the reference, as if it was equally loud.' : 'ink before, green after.' }}
    </p>
    <div class="figures-row">
      <FiguresTable
        v-if="answer"
        :before="answer.before"
        :after="answer.after"
        :names="[beforeName, afterName]"
        data-test="side-figures" />
      <p v-else-if="waiting" class="soft" role="status">measuring both …</p>
      <MaskingTable v-if="!reference" :other="asked.other" :names="[beforeName, afterName]" />
    </div>
  </section>
</template>

<style scoped>
.sides {
  display: flex;
  flex-direction: column;
  min-height: 0;
  height: 100%;
}
.row {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 12px;
  align-items: center;
  margin: 0 0 6px;
  font-size: 0.875rem;
}
.readout {
  font-weight: 400;
}
.lanes {
  flex: 1;
  min-height: 260px;
  display: grid;
  grid-template-columns: 58px repeat(3, minmax(0, 1fr)) minmax(0, 0.62fr);
  grid-template-rows: auto minmax(0, 1fr);
  column-gap: 6px;
}
h2 {
  margin: 0;
  font-size: 0.875rem;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.lane {
  position: relative;
  min-width: 0;
  overflow: hidden;
  border: 1px solid var(--ink-soft);
  cursor: crosshair;
  touch-action: none;
}
.lane.spectrum {
  cursor: default;
}
.line {
  position: absolute;
  left: 0;
  right: 0;
  height: 1px;
  background: var(--ink);
  pointer-events: none;
}
.legend {
  margin: 3px 0 6px;
  font-size: 0.7812rem;
}
.figures-row {
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
  gap: 26px;
  align-items: start;
}
.problem {
  color: var(--vermilion);
}
</style>
