<script setup lang="ts">
/** One move in the margin: folded its kind, place and depth; open its figures, evidence and what can be done to it. */
import { computed } from 'vue'
import type { LedgerEntry, Move } from '../api/client'
import CureLine from '../components/CureLine.vue'
import HoldButton from '../components/HoldButton.vue'
import MoveForm from '../components/MoveForm.vue'
import {
  useBench,
  useBlind,
  useEdits,
  useHunt,
  useLearning,
  usePlay,
  usePressure,
  useSession,
} from '../composables/work'
import type { Stretch } from '../composables/useListening'
import { formatDb, formatHz } from '../lib/figures'
import { inKeeper, keyOf, kindOf, numberOf, placeHz, withMeaning } from '../lib/moves'

const props = defineProps<{ entry: LedgerEntry }>()
const { chosen } = useSession()
const { sliceEntryId } = usePlay()
const { entryId, kinds, listenable, sections, loop, gainsNow, notInLinearPhase, heldAtLimit } = useBench()
const edits = useEdits()
const { cure, loss } = useHunt()
const pressure = usePressure()
const blind = useBlind()
/** What the newest blind check of it showed. */
const heardBlind = computed(() => blind.resultOf(props.entry.id)?.result?.sentence ?? '')

const open = computed(() => props.entry.id === entryId.value)
const isOff = computed(() => !props.entry.move.on || (!chosen.value?.ledger_on && !props.entry.move.stand_in))
const picked = computed(() => edits.pickedIds.value.has(props.entry.id))
/** What the move does just now, if it comes and goes. */
const gain = computed(() => gainsNow.value.get(props.entry.id))
function summary(move: Move): string {
  const [gainDb, slope, amount] = (['gain', 'slope', 'amount'] as const).map((one) => numberOf(kinds.value, move, one))
  if (gainDb != null) return formatDb(gainDb)
  const decayS = numberOf(kinds.value, move, 'decay')
  if (decayS != null) return `${decayS} s`
  return slope != null ? `${slope} dB/oct` : amount != null ? `${amount} %` : ''
}
const otherName = (id: string) => listenable.value.find((other) => other.id === id)?.name ?? 'a track that is gone'
const hears = (move: Move) => keyOf(kinds.value, move)
function place(move: Move): string {
  const [hz, lowHz] = [numberOf(kinds.value, move, 'place'), numberOf(kinds.value, move, 'low edge')]
  return hz !== null ? formatHz(hz) : lowHz !== null ? `${formatHz(lowHz)} –` : ''
}

const learning = useLearning()
const learns = computed(() =>
  learning.learningId.value === props.entry.id ? 'works' : learning.listening.listens.value ? 'listens' : null,
)
function learn(from: 'ten-seconds' | 'until-stopped' | 'all' | Stretch) {
  if (from === 'until-stopped') learning.turn(props.entry.id)
  else if (from === 'ten-seconds') void learning.learn(props.entry.id, learning.listening.tenSeconds())
  else void learning.learn(props.entry.id, from === 'all' ? learning.listening.whole() : from)
}

function toggle() {
  const { id, move } = props.entry
  void edits.changeMove(id, { ...move, on: !move.on }, move.on ? 'Switch a move off' : 'Switch a move on')
}

/** A move nudged by the arrow keys while its note has the focus: up and down are frequency, as on the axis. */
function nudge(direction: 1 | -1, fine: boolean) {
  const at = placeHz(kinds.value, props.entry.move)
  if (at === null) return
  const hz = Math.min(Math.max(at * 2 ** ((direction * (fine ? 1 : 10)) / 1200), 20), 20_000)
  void edits.changeMove(props.entry.id, withMeaning(kinds.value, props.entry.move, 'place', hz), 'Frequency')
}

function copyTo(event: Event) {
  const select = event.target as HTMLSelectElement
  if (select.value) void edits.copyMoves([props.entry.id], select.value)
  select.value = ''
}
</script>

<template>
  <article
    class="move"
    data-test="move"
    :class="{ chosen: open, off: isOff, later: entry.move.stand_in, timed: entry.move.times_s?.length, picked }">
    <header>
      <button
        class="plain tick"
        role="switch"
        :aria-checked="entry.move.on"
        :title="entry.move.on ? 'On: click to switch off' : 'Off: click to switch on'"
        @click="toggle">
        {{ entry.move.on ? 'on' : 'off' }}
      </button>
      <button
        class="title"
        :aria-expanded="open"
        title="Click to open, Shift and click to pick it for copying with others"
        @click="$event.shiftKey ? edits.pick(entry.id) : (entryId = open ? null : entry.id)"
        @keydown.up.prevent="nudge(1, $event.shiftKey)"
        @keydown.down.prevent="nudge(-1, $event.shiftKey)"
        @keydown.delete="edits.removeMove(entry.id)">
        <span v-if="picked" class="mark" aria-label="picked">✓</span>
        <span class="kind">{{ kindOf(kinds, entry.move)?.label ?? entry.move.kind }}</span>
        <span v-if="entry.move.stand_in" class="soft stands" title="Heard in the pressure test only">stand-in</span>
        <span v-if="!open && hears(entry.move)" class="hears" :title="`listens to ${otherName(hears(entry.move))}`"
          >hears {{ otherName(hears(entry.move)) }}</span
        >
        <span v-else-if="!open" class="figures">{{ place(entry.move) }}</span>
        <span class="figures take" :class="{ moving: !!gain }" :title="gain ? 'what it does just now' : 'its depth'">{{
          gain ? formatDb(gain.gain_db) : summary(entry.move)
        }}</span>
      </button>
    </header>
    <template v-if="open">
      <p v-if="hears(entry.move)" class="flag slate">listens to {{ otherName(hears(entry.move)) }}</p>
      <CureLine
        v-if="entry.evidence"
        :evidence="entry.evidence"
        :cure="cure"
        :back="pressure.rowOf(entry.id)"
        @deeper="edits.changeMove(entry.id, $event, 'Deeper')" />
      <p v-if="heardBlind" class="soft" data-test="heard-blind">blind: {{ heardBlind }}</p>
      <p v-if="loss?.over_cut" class="flag" data-test="over-cut">
        {{ Math.round(100 * loss.region_lost) }} % of this region's own loudness is gone
      </p>
      <p v-if="inKeeper(kinds, entry.move, chosen?.keepers ?? [])" class="flag">stands in a region that you keep</p>
      <p v-if="heldAtLimit.has(entry.id)" class="flag">held at its limit: the amount would take it further</p>
      <p
        v-if="notInLinearPhase.has(entry.id)"
        class="flag slate"
        title="A linear-phase filter for it would ring for many seconds before and after each sound">
        too low and narrow for linear phase: runs in minimum phase
      </p>
      <MoveForm
        :move="entry.move"
        :kinds="kinds"
        :others="listenable"
        :sections="sections"
        :loop="loop"
        :level-db="gain?.level_db ?? null"
        :gain-db="gain?.gain_db ?? null"
        :learning="learns"
        @learn="learn"
        @take-out="(figure, run) => learning.takeOut(entry, figure, run)"
        @keep="(figure, run) => learning.keep(entry, figure, run)"
        @change="(move, label) => edits.changeMove(entry.id, move, label)"
        @preview="edits.previewMove(entry.id, $event)" />
      <p v-if="learning.problem.value" class="flag">{{ learning.problem.value }}</p>
      <footer>
        <HoldButton
          :aria-pressed="sliceEntryId === entry.id"
          title="Hold to hear only this slice of the untreated track"
          @hold="sliceEntryId = entry.id"
          @release="sliceEntryId = null"
          >hear slice</HoldButton
        >
        <button class="plain" @click="edits.duplicateMove(entry.id)">duplicate</button>
        <select
          class="copy"
          aria-label="Copy this move to"
          title="Copy this move to another track or group"
          @change="copyTo($event)">
          <option value="">copy to</option>
          <option v-for="other in listenable" :key="other.id" :value="other.id">{{ other.name }}</option>
        </select>
        <button class="plain" @click="edits.removeMove(entry.id)">remove</button>
      </footer>
    </template>
  </article>
</template>

<style scoped>
.move.picked {
  background: var(--paper);
  border-color: var(--ink);
  border-left-color: var(--green);
}
.mark {
  font-weight: 700;
}
.later {
  --edge: 3px double var(--slate);
}
.stands {
  font-size: 0.7812rem;
}
.timed {
  --edge: 3px dashed var(--green);
}
.flag {
  margin: 0 0 2px;
  font-size: 0.7812rem;
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
  font-size: 0.8125rem;
  overflow: hidden;
  text-overflow: ellipsis;
}
.copy {
  font: inherit;
  font-size: 0.7812rem;
  width: 3.875rem;
  color: var(--ink);
  background: transparent;
  border: 0;
  text-decoration: underline;
  cursor: pointer;
}
.copy option {
  background: var(--paper);
}
.move.chosen {
  border-color: var(--green);
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
  height: 1.5rem;
  margin-bottom: 2px;
}
footer {
  margin-top: 6px;
  font-size: 0.7812rem;
  white-space: nowrap;
  gap: 0;
}
footer .plain {
  padding: 2px 4px;
  font-size: 0.7812rem;
}
.tick {
  width: 2rem;
  padding: 0;
  font-size: 0.75rem;
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
</style>
