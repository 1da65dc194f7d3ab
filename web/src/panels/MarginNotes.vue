<script setup lang="ts">
/** What stands on the track, in the margin: each note at its own frequency and tied to it by a fine line. */
import { computed, onBeforeUnmount, onMounted, ref, useTemplateRef, watch, type Ref } from 'vue'
import DraftNote from '../components/DraftNote.vue'
import KeeperNote from '../components/KeeperNote.vue'
import PinNote from '../components/PinNote.vue'
import SuspectNote from '../components/SuspectNote.vue'
import { useBench, useEdits, useHunt, useSession, useSurvey } from '../composables/work'
import { hzOfY, yOfHz } from '../lib/axis'
import { formatHz } from '../lib/figures'
import { placeNotes } from '../lib/margin'
import { placeHz } from '../lib/moves'
import MoveNote from './MoveNote.vue'

const { chosen } = useSession()
const { frequency, laneSize, entryId, kinds } = useBench()
const edits = useEdits()
const { suspects, suspectId, foundIn, audition, judge, setLoop } = useHunt()
const survey = useSurvey()
const { draftId } = survey
const drafts = computed(() => survey.drafts.value ?? [])
const ledger = computed(() => chosen.value?.ledger ?? [])
const pins = computed(() => chosen.value?.pins ?? [])
const keepers = computed(() => chosen.value?.keepers ?? [])
/** A line of text, as large as whoever reads has set it. */
const FOLDED_PX = Math.round(1.875 * parseFloat(getComputedStyle(document.documentElement).fontSize))
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

/** The chosen note is as high as what is in it: measured, since its figures come and go. */
const openPx = ref(FIRST_OPEN_PX)
const suspectPx = ref(FIRST_OPEN_PX)
const draftPx = ref(FIRST_OPEN_PX)
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
const measureDraft = measurer(draftPx)
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
watch(entryId, (id) => show(id, '.chosen'), { flush: 'post' })
watch(suspectId, (id) => show(id, '.suspect.open'), { flush: 'post' })
const above = computed(() => laneSize.value.height - height.value)
/** Where a place stands in the margin; what has none stands at its head. */
const inView = (hz: number | null) =>
  hz === null ? 0 : Math.min(Math.max(yOfHz(hz, frequency.value, laneSize.value.height) - above.value, 0), height.value)

const notes = computed(() => [
  ...ledger.value.map((entry) => ({
    id: entry.id,
    y: inView(placeHz(kinds.value, entry.move)),
    height: entry.id === entryId.value ? openPx.value : FOLDED_PX,
  })),
  ...suspects.value.map((one) => ({
    id: one.id,
    y: inView(one.hz),
    height: one.id === suspectId.value ? suspectPx.value : FOLDED_PX,
  })),
  ...drafts.value.map((draft) => ({
    id: draft.id,
    y: inView(draft.cut.move.hz),
    height: draft.id === draftId.value ? draftPx.value : FOLDED_PX,
  })),
  ...pins.value.map((pin) => ({ id: pin.id, y: inView(pin.hz), height: FOLDED_PX })),
  ...keepers.value.map((keeper, index) => ({
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
    const at = [entryId.value, suspectId.value, draftId.value].includes(note.id)
      ? Math.min(Math.max(note.y, top + 8), top + note.height - 8)
      : top + FOLDED_PX / 2
    return {
      id: note.id,
      d: `M0 ${note.y + scrolled.value} C ${TIE_PX / 2} ${note.y + scrolled.value} ${TIE_PX / 2} ${at} ${TIE_PX} ${at}`,
    }
  }),
)

const onEmpty = (event: MouseEvent) => event.target === event.currentTarget
const yIn = (event: MouseEvent) => event.clientY - (event.currentTarget as HTMLElement).getBoundingClientRect().top
const hzAt = (y: number) => hzOfY(y - scrolled.value + above.value, frequency.value, laneSize.value.height)
const placed = (id: string, open = false) => ({
  top: `${tops.value.get(id) ?? 0}px`,
  height: open ? 'auto' : `${FOLDED_PX}px`,
})
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
      data-hint="margin"
      @pointermove="ghostY = onEmpty($event) ? yIn($event) : null"
      @pointerleave="ghostY = null"
      @click="onEmpty($event) && edits.addBell(hzAt(yIn($event)))">
      <svg class="ties" :width="TIE_PX" :height="length" aria-hidden="true">
        <path
          v-for="tie in ties"
          :key="tie.id"
          :d="tie.d"
          :class="{ strong: tie.id === entryId, accused: tie.id === suspectId }" />
      </svg>
      <div v-if="ghostY !== null" class="ghost figures" :style="{ top: `${ghostY - 10}px` }">
        click: bell at {{ formatHz(hzAt(ghostY)) }}
      </div>
      <MoveNote
        v-for="entry in ledger"
        :key="entry.id"
        :ref="entry.id === entryId ? measure : undefined"
        class="note"
        :class="{ front: entry.id === entryId }"
        :entry="entry"
        :style="placed(entry.id, entry.id === entryId)" />
      <SuspectNote
        v-for="one in suspects"
        :key="one.id"
        :ref="one.id === suspectId ? measureSuspect : undefined"
        :suspect="one"
        :open="one.id === suspectId"
        :start-s="foundIn.startS"
        :end-s="foundIn.endS"
        :style="placed(one.id, one.id === suspectId)"
        @choose="suspectId = one.id === suspectId ? null : one.id"
        @hear="audition($event, one)"
        @judge="judge($event, one)"
        @loop="setLoop" />
      <DraftNote
        v-for="draft in drafts"
        :key="draft.id"
        :ref="draft.id === draftId ? measureDraft : undefined"
        class="note"
        :cut="draft.cut"
        :on="draft.on"
        :open="draft.id === draftId"
        :style="placed(draft.id, draft.id === draftId)"
        @choose="draftId = draft.id === draftId ? null : draft.id"
        @toggle="survey.toggle(draft.id)"
        @keep="survey.keep(draft)"
        @hear="survey.hear($event, draft)" />
      <PinNote
        v-for="pin in pins"
        :key="pin.id"
        class="note"
        :pin="pin"
        :style="placed(pin.id)"
        @answer="edits.answerPin(pin, $event)"
        @keep="edits.keepPin(pin)"
        @remove="edits.removePin(pin.id)" />
      <KeeperNote
        v-for="(keeper, index) in keepers"
        :key="`keeper ${index}`"
        class="note"
        :keeper="keeper"
        :style="placed(`keeper ${index}`)"
        @remove="edits.removeKeeper(index)" />
      <p
        v-if="!ledger.length && !pins.length && !keepers.length && !suspects.length && !drafts.length"
        class="hint soft">
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
  border-left: var(--edge, 3px solid var(--green));
  overflow: hidden;
  cursor: default;
  padding: 2px 6px 2px 4px;
}
.front {
  z-index: 1;
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
