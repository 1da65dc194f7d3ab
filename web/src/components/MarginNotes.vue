<script setup lang="ts">
/** Pins, keepers and moves of the track in the margin, each at its own frequency and tied to it by a fine line. */
import { computed, onBeforeUnmount, onMounted, ref, useTemplateRef, watch, type Ref } from 'vue'
import type { Cure, Keeper, LedgerEntry, Move, MoveKind, Pin, RegionLoss, Suspect } from '../api/client'
import { hzOfY, yOfHz, type FrequencyView } from '../lib/axis'
import { depthName, inKeeper, type Passage, placeHz, withHz } from '../lib/moves'
import { formatDb, formatHz, noteOfHz } from '../lib/figures'
import { placeNotes } from '../lib/margin'
import type { Shown } from '../lib/suspects'
import CureLine from './CureLine.vue'
import HoldButton from './HoldButton.vue'
import MoveForm from './MoveForm.vue'
import SuspectNote from './SuspectNote.vue'

const props = defineProps<{
  ledger: LedgerEntry[]
  pins: Pin[]
  keepers: Keeper[]
  suspects: Suspect[]
  suspectId: string | null
  /** The stretch in which suspects were looked for. */
  stretch: { startS: number; endS: number }
  cure: Cure | null
  /** How much of the track's own loudness around the chosen move is gone. */
  loss: RegionLoss | null
  kinds: MoveKind[]
  frequency: FrequencyView
  /** Height of the lanes beside; the margin ends where they end and begins further down. */
  laneHeight: number
  chosenId: string | null
  /** Moves picked to be copied together. */
  pickedIds: ReadonlySet<string>
  heardId: string | null
  ledgerOn: boolean
  /** Tracks and groups but the one on the bench: what a move can listen to, or be copied to. */
  others: { id: string; name: string }[]
  /** Passages that a move can be limited to. */
  sections: Passage[]
  loop: { startS: number; endS: number } | null
  /** What each dynamic or adaptive move does just now. */
  gains: ReadonlyMap<string, { level_db: number | null; gain_db: number }>
  /** Moves that cannot run in the linear phase that is chosen. */
  notLinear: ReadonlySet<string>
}>()
const emit = defineEmits<{
  choose: [id: string | null]
  pick: [id: string]
  change: [id: string, move: Move, label: string]
  hear: [id: string | null]
  duplicate: [id: string]
  remove: [id: string]
  removePin: [id: string]
  answerPin: [pin: Pin, how: 'cut' | 'tame']
  keepPin: [pin: Pin]
  removeKeeper: [index: number]
  preview: [id: string, move: Move]
  copy: [id: string, targetId: string]
  add: [hz: number]
  chooseSuspect: [id: string | null]
  hearSuspect: [how: Shown | null, suspect: Suspect]
  judge: [how: 'cut' | 'tame' | 'wanted' | 'no-fault', suspect: Suspect]
  loop: [startS: number, endS: number]
}>()
const FOLDED_PX = 30
const GAP_PX = 4
const TIE_PX = 22
const FIRST_OPEN_PX = 320
const box = useTemplateRef<HTMLElement>('box')
const height = ref(0)
const ghostY = ref<number | null>(null)
const scrolled = ref(0)
let watcher: ResizeObserver | null = null

onMounted(() => {
  if (!box.value) return
  watcher = new ResizeObserver(() => (height.value = box.value?.clientHeight ?? 0))
  watcher.observe(box.value)
})
onBeforeUnmount(() => watcher?.disconnect())

const kindOf = (move: Move) => props.kinds.find((kind) => kind.kind === move.kind)
/** The chosen note is as high as what is in it: measured, since its figures come and go. */
const openPx = ref(FIRST_OPEN_PX)
const suspectPx = ref(FIRST_OPEN_PX)
function measurer(height: Ref<number>) {
  let opened: HTMLElement | null = null
  const watcher = new ResizeObserver(() => {
    if (opened) height.value = opened.offsetHeight
  })
  onBeforeUnmount(() => watcher.disconnect())
  return (reference: unknown) => {
    const element = reference instanceof HTMLElement ? reference : (reference as { $el?: unknown } | null)?.$el
    // The note that folds lets go of its reference after the one that opens has taken it: that is not to undo it.
    if (!(element instanceof HTMLElement) || element === opened) return
    watcher.disconnect()
    opened = element
    watcher.observe(element)
  }
}
const measure = measurer(openPx)
const measureSuspect = measurer(suspectPx)
/**
 * What has just been opened is brought into view with its buttons (its head, where it is too high), once it has been
 * measured and placed.
 */
const show = (id: string | null, which: string) =>
  id &&
  requestAnimationFrame(() =>
    requestAnimationFrame(() => {
      const opened = box.value?.querySelector<HTMLElement>(which)
      opened?.scrollIntoView({ block: opened.offsetHeight > height.value ? 'start' : 'nearest' })
    }),
  )
watch(
  () => props.chosenId,
  (id) => show(id, '.chosen'),
  { flush: 'post' },
)
watch(
  () => props.suspectId,
  (id) => show(id, '.suspect.open'),
  { flush: 'post' },
)
const above = computed(() => props.laneHeight - height.value)
const inView = (hz: number) =>
  Math.min(Math.max(yOfHz(hz, props.frequency, props.laneHeight) - above.value, 0), height.value)

const notes = computed(() => [
  ...props.ledger.map((entry) => ({
    id: entry.id,
    y: inView(placeHz(entry.move)),
    height: entry.id === props.chosenId ? openPx.value : FOLDED_PX,
  })),
  ...props.suspects.map((one) => ({
    id: one.id,
    y: inView(one.hz),
    height: one.id === props.suspectId ? suspectPx.value : FOLDED_PX,
  })),
  ...props.pins.map((pin) => ({ id: pin.id, y: inView(pin.hz), height: FOLDED_PX })),
  ...props.keepers.map((keeper, index) => ({
    id: `keeper ${index}`,
    y: inView(Math.sqrt(keeper.low_hz * keeper.high_hz)),
    height: FOLDED_PX,
  })),
])
const tops = computed(
  () => new Map(placeNotes(notes.value, height.value, GAP_PX).map((placed) => [placed.id, placed.top])),
)
const length = computed(() =>
  Math.max(height.value, ...notes.value.map((note) => (tops.value.get(note.id) ?? 0) + note.height)),
)
const ties = computed(() =>
  notes.value.map((note) => {
    const top = tops.value.get(note.id) ?? 0
    const at =
      note.id === props.chosenId || note.id === props.suspectId
        ? Math.min(Math.max(note.y, top + 8), top + note.height - 8)
        : top + FOLDED_PX / 2
    return {
      id: note.id,
      d: `M0 ${note.y + scrolled.value} C ${TIE_PX / 2} ${note.y + scrolled.value} ${TIE_PX / 2} ${at} ${TIE_PX} ${at}`,
    }
  }),
)

function summary(move: Move): string {
  const depth = depthName(move)
  if (depth) return formatDb((move as unknown as Record<string, number>)[depth] ?? 0)
  if ('slope_db_per_octave' in move) return `${move.slope_db_per_octave} dB/oct`
  return 'amount' in move ? `${move.amount} %` : ''
}
const otherName = (id: string) => props.others.find((other) => other.id === id)?.name ?? 'a track that is gone'
const hears = (move: Move) => ('listens_to' in move ? (move.listens_to ?? '') : '')
const place = (move: Move) => ('hz' in move ? formatHz(move.hz) : `${formatHz(move.low_hz ?? 20)} –`)

/** A move nudged by the arrow keys while its note has the focus: up and down are frequency, as on the axis. */
function nudge(entry: LedgerEntry, direction: 1 | -1, fine: boolean) {
  const hz = Math.min(Math.max(placeHz(entry.move) * 2 ** ((direction * (fine ? 1 : 10)) / 1200), 20), 20_000)
  emit('change', entry.id, withHz(entry.move, hz), 'Frequency')
}

function copyTo(id: string, event: Event) {
  const select = event.target as HTMLSelectElement
  if (select.value) emit('copy', id, select.value)
  select.value = ''
}
const onEmpty = (event: MouseEvent) => event.target === event.currentTarget
const yIn = (event: MouseEvent) => event.clientY - (event.currentTarget as HTMLElement).getBoundingClientRect().top
const hzAt = (y: number) => hzOfY(y - scrolled.value + above.value, props.frequency, props.laneHeight)
</script>

<template>
  <div
    ref="box"
    class="margin"
    role="group"
    aria-label="Margin: pins and moves"
    @scroll="scrolled = box?.scrollTop ?? 0">
    <div
      class="inner"
      :style="{ height: `${length}px` }"
      data-test="margin"
      @pointermove="ghostY = onEmpty($event) ? yIn($event) : null"
      @pointerleave="ghostY = null"
      @click="onEmpty($event) && emit('add', hzAt(yIn($event)))">
      <svg class="ties" :width="TIE_PX" :height="length" aria-hidden="true">
        <path
          v-for="tie in ties"
          :key="tie.id"
          :d="tie.d"
          :class="{ strong: tie.id === chosenId, accused: tie.id === suspectId }" />
      </svg>
      <div v-if="ghostY !== null" class="ghost figures" :style="{ top: `${ghostY - 10}px` }">
        click: bell at {{ formatHz(hzAt(ghostY)) }}
      </div>
      <article
        v-for="entry in ledger"
        :key="entry.id"
        :ref="entry.id === chosenId ? measure : undefined"
        class="note move"
        data-test="move"
        :class="{
          chosen: entry.id === chosenId,
          off: !entry.move.on || !ledgerOn,
          timed: entry.move.times_s?.length,
          picked: pickedIds.has(entry.id),
        }"
        :style="{ top: `${tops.get(entry.id) ?? 0}px`, height: entry.id === chosenId ? 'auto' : `${FOLDED_PX}px` }">
        <header>
          <button
            class="plain tick"
            role="switch"
            :aria-checked="entry.move.on"
            :title="entry.move.on ? 'On: click to switch off' : 'Off: click to switch on'"
            @click="
              emit(
                'change',
                entry.id,
                { ...entry.move, on: !entry.move.on },
                entry.move.on ? 'Switch a move off' : 'Switch a move on',
              )
            ">
            {{ entry.move.on ? 'on' : 'off' }}
          </button>
          <button
            class="title"
            :aria-expanded="entry.id === chosenId"
            title="Click to open, Shift and click to pick it for copying with others"
            @click="$event.shiftKey ? emit('pick', entry.id) : emit('choose', entry.id === chosenId ? null : entry.id)"
            @keydown.up.prevent="nudge(entry, 1, $event.shiftKey)"
            @keydown.down.prevent="nudge(entry, -1, $event.shiftKey)"
            @keydown.delete="emit('remove', entry.id)">
            <span v-if="pickedIds.has(entry.id)" class="mark" aria-label="picked">✓</span>
            <span class="kind">{{ kindOf(entry.move)?.label ?? entry.move.kind }}</span>
            <span
              v-if="entry.id !== chosenId && hears(entry.move)"
              class="hears"
              :title="`listens to ${otherName(hears(entry.move))}`"
              >hears {{ otherName(hears(entry.move)) }}</span
            >
            <span v-else-if="entry.id !== chosenId" class="figures">{{ place(entry.move) }}</span>
            <span
              class="figures take"
              :class="{ moving: gains.has(entry.id) }"
              :title="gains.has(entry.id) ? 'what it does just now' : 'its depth'"
              >{{ gains.has(entry.id) ? formatDb(gains.get(entry.id)?.gain_db ?? 0) : summary(entry.move) }}</span
            >
          </button>
        </header>
        <template v-if="entry.id === chosenId">
          <p v-if="hears(entry.move)" class="flag slate">listens to {{ otherName(hears(entry.move)) }}</p>
          <CureLine v-if="entry.evidence" :evidence="entry.evidence" :cure="cure" />
          <p v-if="loss?.over_cut" class="flag" data-test="over-cut">
            {{ Math.round(100 * loss.region_lost) }} % of this region's own loudness is gone
          </p>
          <p v-if="inKeeper(entry.move, keepers)" class="flag">stands in a region that you keep</p>
          <p
            v-if="notLinear.has(entry.id)"
            class="flag slate"
            title="A linear-phase filter for it would ring for many seconds before and after each sound">
            too low and narrow for linear phase: runs in minimum phase
          </p>
          <MoveForm
            :move="entry.move"
            :kinds="kinds"
            :others="others"
            :sections="sections"
            :loop="loop"
            :level-db="gains.get(entry.id)?.level_db ?? null"
            :gain-db="gains.get(entry.id)?.gain_db ?? null"
            @change="(move, label) => emit('change', entry.id, move, label)"
            @preview="emit('preview', entry.id, $event)" />
          <footer>
            <HoldButton
              :aria-pressed="heardId === entry.id"
              title="Hold to hear only this slice of the untreated track"
              @hold="emit('hear', entry.id)"
              @release="emit('hear', null)"
              >hear slice</HoldButton
            >
            <button class="plain" @click="emit('duplicate', entry.id)">duplicate</button>
            <select
              class="copy"
              aria-label="Copy this move to"
              title="Copy this move to another track or group"
              @change="copyTo(entry.id, $event)">
              <option value="">copy to</option>
              <option v-for="other in others" :key="other.id" :value="other.id">{{ other.name }}</option>
            </select>
            <button class="plain" @click="emit('remove', entry.id)">remove</button>
          </footer>
        </template>
      </article>
      <SuspectNote
        v-for="one in suspects"
        :key="one.id"
        :ref="one.id === suspectId ? measureSuspect : undefined"
        :suspect="one"
        :open="one.id === suspectId"
        :start-s="stretch.startS"
        :end-s="stretch.endS"
        :style="{ top: `${tops.get(one.id) ?? 0}px`, height: one.id === suspectId ? 'auto' : `${FOLDED_PX}px` }"
        @choose="emit('chooseSuspect', one.id === suspectId ? null : one.id)"
        @hear="emit('hearSuspect', $event, one)"
        @cut="emit('judge', 'cut', one)"
        @tame="emit('judge', 'tame', one)"
        @wanted="emit('judge', 'wanted', one)"
        @no-fault="emit('judge', 'no-fault', one)"
        @loop="(from, to) => emit('loop', from, to)" />
      <article
        v-for="pin in pins"
        :key="pin.id"
        class="note pin"
        data-test="pin"
        :style="{ top: `${tops.get(pin.id) ?? 0}px`, height: `${FOLDED_PX}px` }">
        <span class="figures where"
          >{{ formatHz(pin.hz) }} {{ noteOfHz(pin.hz).name
          }}<small v-if="pin.excess_db != null" class="soft">{{ formatDb(pin.excess_db) }} out</small></span
        >
        <button class="plain boxed" title="Make it a bell that cuts here" @click="emit('answerPin', pin, 'cut')">
          cut
        </button>
        <button
          class="plain boxed"
          title="Make it a bell that cuts here only in the loud moments"
          @click="emit('answerPin', pin, 'tame')">
          tame
        </button>
        <button
          class="plain boxed"
          title="This is wanted: nothing that works by itself may touch it"
          @click="emit('keepPin', pin)">
          keep
        </button>
        <button
          class="plain"
          title="Remove the pin"
          :aria-label="`Remove the pin at ${formatHz(pin.hz)}`"
          @click="emit('removePin', pin.id)">
          ×
        </button>
      </article>
      <article
        v-for="(keeper, index) in keepers"
        :key="`keeper ${index}`"
        class="note keeper"
        data-test="keeper"
        :style="{ top: `${tops.get(`keeper ${index}`) ?? 0}px`, height: `${FOLDED_PX}px` }">
        <span class="figures where"
          ><span class="soft">kept</span> {{ formatHz(keeper.low_hz) }} – {{ formatHz(keeper.high_hz) }}</span
        >
        <button
          class="plain"
          title="No longer keep it"
          :aria-label="`No longer keep ${formatHz(keeper.low_hz)} to ${formatHz(keeper.high_hz)}`"
          @click="emit('removeKeeper', index)">
          ×
        </button>
      </article>
      <p v-if="!ledger.length && !pins.length && !keepers.length && !suspects.length" class="hint soft">
        Nothing cut yet. Let Mivlo look for suspects, above, or find them by ear: hold the mouse on the spectrum to lift
        what is under it, sweep up and down until the fault jumps out, press P to pin it. Or click here for a bell.
      </p>
    </div>
  </div>
</template>

<style scoped>
.margin {
  position: relative;
  overflow-y: auto;
  overflow-x: hidden;
  height: 100%;
}
.inner {
  position: relative;
  cursor: copy;
}
.ties {
  position: absolute;
  left: 0;
  top: 0;
  pointer-events: none;
}
.ties path {
  fill: none;
  stroke: var(--ink-soft);
  stroke-width: 1;
}
.ties .accused {
  stroke: var(--vermilion);
  stroke-width: 2;
}
.ties .strong {
  stroke: var(--green);
  stroke-width: 2;
}
.note {
  position: absolute;
  left: 22px;
  right: 4px;
  background: var(--paper-raised);
  border: 1px solid var(--line);
  border-left: 3px solid var(--green);
  overflow: hidden;
  cursor: default;
  padding: 2px 6px 2px 4px;
}
.pin {
  border-left: 3px dotted var(--ochre);
  display: flex;
  align-items: center;
  gap: 3px;
}
.pin .where {
  flex: 1;
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}
.picked {
  background: var(--paper);
  border-color: var(--ink);
  border-left-color: var(--green);
}
.mark {
  font-weight: 700;
}
.timed {
  border-left-style: dashed;
}
.keeper {
  border-left: 3px double var(--ink);
  display: flex;
  align-items: center;
}
.keeper .where {
  flex: 1;
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}
.flag {
  margin: 0 0 2px;
  font-size: 12.5px;
  color: var(--ochre);
}
.flag.slate {
  color: var(--slate);
}
.moving {
  font-weight: 700;
}
.hears {
  color: var(--slate);
  font-size: 13px;
  overflow: hidden;
  text-overflow: ellipsis;
}
.copy {
  font: inherit;
  font-size: 12.5px;
  width: 62px;
  color: var(--ink);
  background: transparent;
  border: 0;
  text-decoration: underline;
  cursor: pointer;
}
.copy option {
  background: var(--paper);
}
.chosen {
  border-color: var(--green);
  z-index: 1;
  padding-bottom: 6px;
}
.off .title {
  opacity: 0.65;
  text-decoration: line-through;
}
header,
footer {
  display: flex;
  align-items: center;
  gap: 2px;
}
header {
  height: 24px;
  margin-bottom: 2px;
}
footer {
  margin-top: 6px;
  font-size: 12.5px;
  white-space: nowrap;
  gap: 0;
}
footer .plain {
  padding: 2px 4px;
  font-size: 12.5px;
}
.pin .plain {
  padding: 1px 4px;
  font-size: 12.5px;
}
.pin .where {
  font-size: 12px;
  line-height: 13px;
}
.pin small {
  display: block;
  font-size: 11px;
  line-height: 11px;
}
.tick {
  width: 32px;
  padding: 0;
  font-size: 12px;
  text-align: center;
}
.tick[aria-checked='true'] {
  color: var(--green);
  font-weight: 700;
}
.title {
  flex: 1;
  min-width: 0;
  display: flex;
  gap: 5px;
  align-items: baseline;
  border: 0;
  padding: 0;
  background: none;
  color: inherit;
  font: inherit;
  text-align: left;
  cursor: pointer;
  white-space: nowrap;
  overflow: hidden;
}
.kind {
  overflow: hidden;
  text-overflow: ellipsis;
}
.take {
  margin-left: auto;
  color: var(--green);
}
.ghost {
  position: absolute;
  left: 24px;
  right: 4px;
  border: 1px dashed var(--ink-soft);
  color: var(--ink-soft);
  padding: 1px 6px;
  pointer-events: none;
  background: var(--paper);
}
.hint {
  margin: 0;
  padding: 10px 12px 0 26px;
  pointer-events: none;
}
</style>
