<script setup lang="ts">
/** The Ensemble: see who hides whom, say who goes first, let the other give way, and see what came of it. */
import type { Pressed } from '../composables/useEnsemble'
import { useBench, useEnsemble, usePlay, useSession } from '../composables/work'
import { computed, onBeforeUnmount, onMounted, ref } from 'vue'
import { useRouter } from 'vue-router'
import ClashNote from '../components/ClashNote.vue'
import EnsembleColumns from '../components/EnsembleColumns.vue'
import MixCompare from '../components/MixCompare.vue'
import MoveRegister from '../components/MoveRegister.vue'
import NoteRuler from '../components/NoteRuler.vue'
import PairView from '../components/PairView.vue'
import { wholeAxis, yOfHz } from '../lib/axis'
import { setMove, stripOf } from '../lib/intents'
import { rulesFor, type RegisteredMove } from '../lib/ensemble'
import { formatHz, formatTime, noteOfHz } from '../lib/figures'
import { isTyping } from '../lib/keys'
import type { ClashView } from '../api/client'

const router = useRouter()
const { about, state, known, chosenId, edit } = useSession()
const play = usePlay()
const bench = useBench()
const ensemble = useEnsemble()
const {
  view,
  fresh,
  progress,
  problem,
  clashId,
  clash,
  pairIds,
  closeView,
  pressed,
  picturesNow,
  ordered,
  draft,
  allTogether,
  rights,
} = ensemble

const SHOWN_AT_FIRST = 14
const PRESSED: [Pressed, string][] = [
  ['it', 'the track'],
  ['hider', 'what hides it'],
  ['both', 'both'],
]
const TABS = [
  ['clashes', 'clashes'],
  ['moves', 'all moves'],
  ['mix', 'before and after'],
] as const
const tab = ref<'clashes' | 'moves' | 'mix'>('clashes')
const all = ref(false)
/** Only those in which somebody is hidden who goes first: the others are as decided. */
const against = ref(true)
const pointerHz = ref<number | null>(null)

const position = () => play.positionFrame.value / play.rate.value
const clashes = computed(() => view.value?.clashes ?? [])
const listed = computed(() => clashes.value.filter((one) => !against.value || one.against || one.id === clashId.value))
const shownClashes = computed(() =>
  all.value ? listed.value : listed.value.filter((one, at) => at < SHOWN_AT_FIRST || one.id === clashId.value),
)
const pair = computed(() => {
  const [first, other] = ordered.value.filter((column) => pairIds.value.includes(column.id))
  return first && other ? { first, other } : null
})
const ofPair = computed(() =>
  clashes.value.filter((one) => one.by && pairIds.value.includes(one.hidden) && pairIds.value.includes(one.by)),
)
const carved = computed(() => (view.value?.proofs?.length ?? 0) > 0)
const status = computed(() => {
  if (problem.value) return problem.value
  if (!fresh.value)
    return progress.value.of > 1
      ? `listening to the tracks: ${progress.value.done} of ${progress.value.of}`
      : 'listening to all tracks together …'
  const open = clashes.value.filter((one) => one.against && !one.entry).length
  const n = clashes.value.length
  return `${n || 'no'} clash${n === 1 ? '' : 'es'}${open ? `, ${open} against the right of way` : ''}`
})
const readout = computed(() => pointerHz.value && `${formatHz(pointerHz.value)} ${noteOfHz(pointerHz.value).name}`)
const loopTold = computed(() =>
  bench.loop.value ? `loop ${formatTime(bench.loop.value.startS)} to ${formatTime(bench.loop.value.endS)}` : 'no loop',
)

function showTab(which: typeof tab.value) {
  tab.value = which
  allTogether.value = which === 'mix'
  if (which !== 'mix') ensemble.allMovesOff.value = false
}

function hear(one: ClashView, ids: string[] | null) {
  if (ids) ensemble.hearSlice(ids, one.centre_hz, Math.log2(one.high_hz / one.low_hz), one.worst?.[0] ?? null)
  else ensemble.letGo()
}

function toggle({ stripId, entry }: RegisteredMove) {
  const strip = stripOf(known.value, stripId)
  const on = entry.move.on === false
  if (!strip) return
  const label = `${on ? 'Switch on' : 'Switch off'} a move of ${strip.name}`
  void edit(label, [setMove(strip, entry.id, { ...entry.move, on })])
}

function toBench(stripId: string, entryId?: string) {
  chosenId.value = stripId
  void router.push(`/session/${state.value?.id}/bench`).then(() => (bench.entryId.value = entryId ?? null))
}

/** The next clash or the one before, strongest first. */
function step(by: 1 | -1) {
  const list = listed.value
  const next = list.at((list.findIndex((one) => one.id === clashId.value) + by) % Math.max(list.length, 1))
  if (next && next.id !== clashId.value) ensemble.choose(next.id)
}

function keyDown(event: KeyboardEvent) {
  if (isTyping(event) || event.ctrlKey || event.metaKey || event.altKey || event.repeat) return
  if (event.key === 'n') step(1)
  else if (event.key === 'N') step(-1)
  else if (event.key === 'w' && clash.value) ensemble.loopWorst()
  else if (event.key === 'b' && clash.value?.entry) ensemble.without.value = !ensemble.without.value
  else if (event.key === 'Escape') ensemble.choose(clashId.value)
}

onMounted(() => {
  ensemble.enter()
  window.addEventListener('keydown', keyDown)
  window.addEventListener('blur', ensemble.letGo)
})
onBeforeUnmount(() => {
  ensemble.leave()
  allTogether.value = false
  window.removeEventListener('keydown', keyDown)
  window.removeEventListener('blur', ensemble.letGo)
})
</script>

<template>
  <div class="ensemble">
    <section class="main">
      <div class="tools">
        <span class="state" role="status" data-test="ensemble-status" :class="{ wrong: problem }">{{ status }}</span>
        <progress v-if="!fresh && !problem && progress.of > 1" :value="progress.done" :max="progress.of"></progress>
        <span class="space"></span>
        <span v-if="carved" class="pairing" role="group" aria-label="Which state is shown">
          <button
            class="plain boxed"
            :aria-pressed="!picturesNow"
            title="As it is without the moves by which tracks give way"
            @click="picturesNow = false">
            before yielding
          </button>
          <button class="plain boxed" :aria-pressed="picturesNow" @click="picturesNow = true">now</button>
        </span>
        <span class="soft">press to hear</span>
        <span class="pairing" role="group" aria-label="What a press plays">
          <button
            v-for="[what, label] in PRESSED"
            :key="what"
            class="plain boxed"
            :aria-pressed="pressed === what"
            :data-test="`press-${what}`"
            @click="pressed = what">
            {{ label }}
          </button>
        </span>
        <button
          class="plain boxed"
          data-test="close-view"
          :disabled="!pair"
          :aria-pressed="closeView && !!pair"
          title="The two chosen tracks on one axis"
          @click="closeView = !closeView">
          close view
        </button>
      </div>
      <div v-if="!view" class="waiting soft">
        {{
          problem ? '' : 'Who hides whom is worked out from the sound of all tracks; it takes a moment the first time.'
        }}
      </div>
      <p v-else-if="!ordered.length" class="waiting soft">
        No tracks yet that could hide one another.
        <RouterLink :to="`/session/${state?.id}/gather`">Gather some.</RouterLink>
      </p>
      <div v-else class="stage" :class="{ stale: !fresh }">
        <div class="axis" :class="{ over: closeView && pair }">
          <NoteRuler :view="wholeAxis" />
          <div
            v-if="readout && pointerHz"
            class="readout figures"
            :style="{
              top: `calc(44px + (100% - ${closeView && pair ? 162 : 44}px) * ${yOfHz(pointerHz, wholeAxis, 1)})`,
            }">
            {{ readout }}
          </div>
        </div>
        <PairView
          v-if="closeView && pair"
          :view="view"
          :first="pair.first"
          :other="pair.other"
          :clashes="ofPair"
          :clash-id="clashId"
          :rules="rulesFor(rights, pair.first.id, pair.other.id)"
          :now="picturesNow"
          :position="position"
          @rule="ensemble.setRule"
          @unrule="ensemble.removeRule"
          @choose="clashId !== $event && ensemble.choose($event)"
          @loop="(from, to) => bench.setLoop({ startS: from, endS: to })"
          @press="ensemble.pressCell"
          @release="ensemble.letGo"
          @point="pointerHz = $event" />
        <EnsembleColumns
          v-else
          :view="view"
          :columns="ordered"
          :clash="clash"
          :pair-ids="pairIds"
          :now="picturesNow"
          :pointer-hz="pointerHz"
          :position="position"
          @press="ensemble.pressCell"
          @release="ensemble.letGo"
          @pick="ensemble.pick"
          @move="ensemble.moveInOrder"
          @point="pointerHz = $event" />
      </div>
      <p class="soft foot">
        <svg width="24" height="12" aria-hidden="true"><rect width="24" height="12" class="inked" /></svg> how loud it
        is
        <svg width="24" height="12" aria-hidden="true">
          <rect width="24" height="12" class="hatched" fill="url(#slate-lines)" />
          <defs>
            <pattern id="slate-lines" width="6" height="6" patternUnits="userSpaceOnUse">
              <path d="M0 6 L6 0" class="lines" />
            </pattern>
          </defs>
        </svg>
        hidden: about half of it or more is not heard. Time runs across each column. The names stand in right-of-way
        order, the first goes first: drag to change. N: next clash, W: loop where it is worst; {{ loopTold
        }}<button v-if="bench.loop.value" class="plain" @click="bench.setLoop(null)">clear</button>
      </p>
    </section>
    <section class="side">
      <div class="tabs" role="tablist">
        <button
          v-for="[name, label] in TABS"
          :key="name"
          role="tab"
          :aria-selected="tab === name"
          :data-test="`tab-${name}`"
          @click="showTab(name)">
          {{ label }}
        </button>
      </div>
      <div v-if="tab === 'clashes'" class="list" data-test="clashes">
        <p v-if="fresh && !clashes.length" class="soft empty">
          {{
            ordered.length < 2
              ? 'One track alone hides nobody.'
              : 'Nobody hides anybody here: each track is heard as well as it would be alone, or nearly.'
          }}
        </p>
        <p v-else-if="clashes.length" class="which">
          <button
            class="plain"
            :aria-pressed="against"
            data-test="against"
            title="Where somebody is hidden who goes first"
            @click="against = true">
            against the right of way
          </button>
          <button
            class="plain"
            :aria-pressed="!against"
            data-test="every"
            title="Also where the one in front hides the other, and where many hide one together"
            @click="against = false">
            all
          </button>
        </p>
        <p v-if="fresh && clashes.length && !listed.length" class="soft empty">
          Nobody who goes first is hidden. “all” shows the rest.
        </p>
        <ClashNote
          v-for="one in shownClashes"
          :key="one.id"
          :clash="one"
          :open="one.id === clashId"
          :fresh="fresh"
          :name-of="ensemble.nameOf"
          :draft="one.id === clashId && draft?.of === one.id ? draft : null"
          :proof="view?.proofs?.find((proven) => proven.entry_id === one.entry?.[1]) ?? null"
          :bands-hz="view?.bands_hz ?? []"
          :part="ensemble.part.value"
          :limit-db="ensemble.limitDb.value"
          :is-dynamic="ensemble.isDynamic.value"
          :without="ensemble.without.value"
          :matched="ensemble.matched.value"
          :match-db="ensemble.matchDb.value"
          :alone="ensemble.alone.value"
          @choose="ensemble.choose(one.id)"
          @hear="hear(one, $event)"
          @worst="ensemble.loopWorst"
          @decide="ensemble.decide"
          @part="ensemble.part.value = $event"
          @limit="ensemble.limitDb.value = $event"
          @dynamic="ensemble.isDynamic.value = $event"
          @accept="ensemble.accept"
          @take-back="ensemble.takeBack"
          @bench="toBench($event, one.entry?.[1])"
          @without="ensemble.without.value = $event"
          @matched="ensemble.matched.value = $event"
          @alone="ensemble.alone.value = $event" />
        <button v-if="listed.length > shownClashes.length" class="plain more" @click="all = true">
          {{ listed.length - shownClashes.length }} weaker ones
        </button>
      </div>
      <MoveRegister
        v-else-if="tab === 'moves' && state"
        :session="state"
        :kinds="about?.kinds ?? []"
        @toggle="toggle"
        @show="toBench($event.stripId, $event.entry.id)" />
      <MixCompare
        v-else
        :comparison="ensemble.comparison.value"
        :off="ensemble.allMovesOff.value"
        :matched="ensemble.matched.value"
        :match-db="ensemble.matchDb.value"
        @off="ensemble.allMovesOff.value = $event"
        @matched="ensemble.matched.value = $event" />
    </section>
  </div>
</template>

<style scoped>
.ensemble {
  height: 100%;
  display: grid;
  grid-template-columns: minmax(0, 1fr) 366px;
}
.main {
  display: flex;
  flex-direction: column;
  min-width: 0;
  min-height: 0;
  border-right: 1.5px solid var(--ink);
}
.tools {
  display: flex;
  gap: 8px;
  align-items: center;
  height: 38px;
  padding: 0 10px;
  border-bottom: 1px solid var(--line);
  white-space: nowrap;
}
.tools .plain {
  font-size: 13.5px;
}
.state {
  font-weight: 700;
  overflow: hidden;
  text-overflow: ellipsis;
}
.wrong {
  color: var(--vermilion);
}
.space {
  flex: 1;
}
.pairing {
  display: inline-flex;
}
.pairing .plain + .plain {
  margin-left: -1px;
}
progress {
  width: 90px;
  accent-color: var(--ink);
}
.waiting {
  padding: 60px 40px;
  flex: 1;
}
.stage {
  flex: 1;
  display: grid;
  grid-template-columns: 58px minmax(0, 1fr);
  min-height: 0;
}
.stage.stale {
  opacity: 0.75;
}
.axis {
  position: relative;
  padding-top: 44px;
  border-right: 1px solid var(--line);
  box-sizing: border-box;
  min-height: 0;
  background: linear-gradient(var(--ink), var(--ink)) 0 42.5px / 100% 1.5px no-repeat;
}
.axis.over {
  padding-bottom: 118px;
}
.readout {
  position: absolute;
  left: 2px;
  transform: translateY(-50%);
  background: var(--paper-raised);
  border: 1px solid var(--ink-soft);
  padding: 0 4px;
  z-index: 3;
  white-space: nowrap;
  pointer-events: none;
}
.foot {
  margin: 0;
  padding: 5px 10px;
  font-size: 12.5px;
  line-height: 1.35;
  border-top: 1px solid var(--ink-soft);
}
.foot svg {
  vertical-align: -1px;
}
.inked {
  fill: var(--ink);
  opacity: 0.75;
}
.hatched {
  stroke: var(--slate);
}
.lines {
  stroke: var(--slate);
  stroke-width: 1.4;
}
.foot .plain {
  text-decoration: underline;
  padding: 0 5px;
}
.side {
  display: flex;
  flex-direction: column;
  min-height: 0;
  min-width: 0;
}
.tabs {
  display: flex;
  height: 38px;
  border-bottom: 1px solid var(--line);
  flex: none;
  padding: 0 6px;
}
.tabs button {
  font: inherit;
  color: inherit;
  background: none;
  border: 0;
  border-bottom: 3px solid transparent;
  padding: 0 9px;
  cursor: pointer;
}
.tabs button[aria-selected='true'] {
  border-bottom-color: var(--ink);
  font-weight: 700;
}
.list {
  flex: 1;
  overflow: auto;
  min-height: 0;
}
.empty {
  padding: 20px;
}
.which {
  margin: 0;
  padding: 4px 8px;
  border-bottom: 1px solid var(--line);
  font-size: 13px;
}
.which .plain {
  padding: 1px 6px;
}
.more {
  margin: 6px 10px;
  text-decoration: underline;
}
</style>
