<script setup lang="ts">
/** Who hides whom, over frequency and time: all tracks side by side, or two of them on one axis. */
import type { Pictured, Pressed } from '../composables/useEnsemble'
import { computed, ref } from 'vue'
import EnsembleColumns from '../components/EnsembleColumns.vue'
import NoteRuler from '../components/NoteRuler.vue'
import OneOf, { type Choice } from '../components/OneOf.vue'
import PairView from '../components/PairView.vue'
import { useBench, useEnsemble, usePlay, useSession } from '../composables/work'
import { wholeAxis, yOfHz } from '../lib/axis'
import { rulesFor } from '../lib/ensemble'
import { formatHz, formatTime, noteOfHz } from '../lib/figures'

const { state } = useSession()
const play = usePlay()
const { loop, setLoop } = useBench()
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
  pictured,
  nPlanned,
  planIsHeard,
  ordered,
  rights,
} = ensemble

const PRESSED: Choice<Pressed>[] = [
  { is: 'it', label: 'the track', test: 'press-it' },
  { is: 'hider', label: 'what hides it', test: 'press-hider' },
  { is: 'both', label: 'both', test: 'press-both' },
]
const pointerHz = ref<number | null>(null)

const position = () => play.positionFrame.value / play.rate.value
const clashes = computed(() => view.value?.clashes ?? [])
const pair = computed(() => {
  const [first, other] = ordered.value.filter((column) => pairIds.value.includes(column.id))
  return first && other ? { first, other } : null
})
const ofPair = computed(() =>
  clashes.value.filter((one) => one.by && pairIds.value.includes(one.hidden) && pairIds.value.includes(one.by)),
)
const carved = computed(() => (view.value?.proofs?.length ?? 0) > 0)
const listens = computed(() => pictured.value === 'planned' && !planIsHeard.value)
const states = computed((): Choice<Pictured>[] => {
  const before = {
    is: 'before' as const,
    label: 'before yielding',
    title: 'As it is without the moves by which tracks give way',
  }
  const planned = {
    is: 'planned' as const,
    label: listens.value ? 'listening …' : `with the plan's ${nPlanned.value}`,
    title: "What the Round's plan would free, as many of its moves as are chosen there; nothing is taken yet",
    test: 'pictured-planned',
    busy: listens.value,
  }
  return [...(carved.value ? [before] : []), { is: 'now', label: 'now' }, ...(nPlanned.value ? [planned] : [])]
})
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
const loopText = computed(() =>
  loop.value ? `loop ${formatTime(loop.value.startS)} to ${formatTime(loop.value.endS)}` : 'no loop',
)
</script>

<template>
  <section class="main">
    <div class="tools">
      <span class="state" role="status" data-test="ensemble-status" :class="{ wrong: problem }">{{ status }}</span>
      <progress v-if="!fresh && !problem && progress.of > 1" :value="progress.done" :max="progress.of"></progress>
      <span class="space"></span>
      <OneOf v-if="states.length > 1" v-model="pictured" label="Which state is shown" :choices="states" />
      <span class="soft">press to hear</span>
      <OneOf v-model="pressed" label="What a press plays" :choices="PRESSED" />
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
        :now="pictured !== 'before'"
        :position="position"
        @rule="ensemble.setRule"
        @unrule="ensemble.removeRule"
        @choose="clashId !== $event && ensemble.choose($event)"
        @loop="(from, to) => setLoop({ startS: from, endS: to })"
        @press="ensemble.pressCell"
        @release="ensemble.letGo"
        @point="pointerHz = $event" />
      <EnsembleColumns
        v-else
        :view="view"
        :columns="ordered"
        :clash="clash"
        :pair-ids="pairIds"
        :now="pictured !== 'before'"
        :pointer-hz="pointerHz"
        :position="position"
        @press="ensemble.pressCell"
        @release="ensemble.letGo"
        @pick="ensemble.pick"
        @move="ensemble.moveInOrder"
        @point="pointerHz = $event" />
    </div>
    <p class="soft foot">
      <svg width="24" height="12" aria-hidden="true"><rect width="24" height="12" class="inked" /></svg> how loud it is
      <svg width="24" height="12" aria-hidden="true">
        <rect width="24" height="12" class="hatched" fill="url(#slate-lines)" />
        <defs>
          <pattern id="slate-lines" width="6" height="6" patternUnits="userSpaceOnUse">
            <path d="M0 6 L6 0" class="lines" />
          </pattern>
        </defs>
      </svg>
      hidden: about half of it or more is not heard.
      <template v-if="pictured === 'planned'">
        <svg width="24" height="12" aria-hidden="true"><rect width="24" height="12" class="freed" /></svg> what the plan
        would free.
      </template>
      Time runs across each column. The names stand in right-of-way order, the first goes first: drag to change. N: next
      clash, W: loop where it is worst; {{ loopText
      }}<button v-if="loop" class="plain" @click="setLoop(null)">clear</button>
    </p>
  </section>
</template>

<style scoped>
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
  min-height: 38px;
  flex-wrap: wrap;
  padding: 0 10px;
  border-bottom: 1px solid var(--line);
  white-space: nowrap;
}
.tools .plain {
  font-size: 0.8438rem;
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
  font-size: 0.7812rem;
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
.freed {
  fill: var(--green);
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
</style>
