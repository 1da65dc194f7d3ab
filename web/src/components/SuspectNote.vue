<script setup lang="ts">
/** One suspect in the margin; the chosen one unfolds into its evidence and what can be said to it. */
import { computed } from 'vue'
import type { Suspect } from '../api/client'
import { formatHz, formatTime, noteOfHz, unbroken } from '../lib/figures'
import { evidencePath, type Shown } from '../lib/suspects'
import HoldButton from './HoldButton.vue'

const props = defineProps<{ suspect: Suspect; open: boolean; startS: number; endS: number }>()
const emit = defineEmits<{
  choose: []
  hear: [how: Shown | null]
  judge: [how: 'cut' | 'tame' | 'wanted' | 'no-fault']
  loop: [startS: number, endS: number]
}>()
const WIDTH = 74
const HEIGHT = 92
const LISTEN: { how: Shown; label: string; title: string }[] = [
  { how: 'only', label: 'alone', title: 'Hold to hear just this (1)' },
  { how: 'dip', label: 'without', title: 'Hold to hear the track without it (2)' },
  { how: 'lift', label: 'lifted', title: 'Hold to hear it made plain (3)' },
]

const path = computed(() => evidencePath(props.suspect.around_hz, props.suspect.around_db, WIDTH, HEIGHT))
const at = computed(() => {
  const low = Math.log2(props.suspect.around_hz[0] ?? 20)
  const high = Math.log2(props.suspect.around_hz.at(-1) ?? 20_000)
  return HEIGHT - ((Math.log2(props.suspect.hz) - low) / (high - low || 1)) * HEIGHT
})
const length = computed(() => Math.max(props.endS - props.startS, 0.01))
const part = (seconds: number) =>
  `${(100 * Math.min(Math.max((seconds - props.startS) / length.value, 0), 1)).toFixed(2)}%`
const follows = computed(
  () =>
    ({ true: 'follows the notes', false: 'does not follow the notes', null: 'notes cannot be told' })[
      String(props.suspect.follows_notes) as 'true' | 'false' | 'null'
    ],
)
</script>

<template>
  <article class="suspect" :class="{ open }" data-test="suspect" :data-kind="suspect.kind">
    <button class="title" :aria-expanded="open" :title="suspect.sentence" @click="emit('choose')">
      <span class="kind">{{ suspect.kind }}</span><span class="figures">{{ formatHz(suspect.hz) }}</span
      ><span class="sure">{{ suspect.sureness }}</span>
    </button>
    <template v-if="open">
      <p class="sentence" data-test="evidence">{{ unbroken(suspect.sentence) }}.</p>
      <div class="evidence">
        <svg :width="WIDTH" :height="HEIGHT" role="img" :aria-label="`Level around ${formatHz(suspect.hz)}`">
          <path :d="path" class="level" />
          <path :d="`M0 ${at - 6} h4 M0 ${at - 6} v12 h4`" class="bracket" />
        </svg>
        <dl class="figures">
          <dt>at</dt>
          <dd>{{ noteOfHz(suspect.hz).name }}, Q {{ suspect.q.toFixed(1) }}</dd>
          <dt>out</dt>
          <dd>{{ suspect.excess_db.toFixed(1) }} dB</dd>
          <template v-if="suspect.ring_s !== null"
            ><dt>rings</dt>
            <dd>
              {{ suspect.ring_s.toFixed(2) }} s<span v-if="suspect.ring_around_s !== null" class="soft">
                ({{ suspect.ring_around_s.toFixed(2) }} around)</span
              >
            </dd></template
          >
          <dt>there</dt>
          <dd>{{ Math.round(100 * suspect.share_of_time) }} % of the time</dd>
          <template v-if="suspect.behaviour !== 'burst'"
            ><dt>notes</dt>
            <dd>{{ follows }}</dd></template
          >
        </dl>
      </div>
      <div class="times" role="group" aria-label="Where in the song">
        <button
          v-for="[from, to] in suspect.times"
          :key="from"
          :style="{ left: part(from), width: `max(3px, calc(${part(to)} - ${part(from)}))` }"
          :title="`Loop ${formatTime(from)} to ${formatTime(to)}`"
          :aria-label="`Loop ${formatTime(from)} to ${formatTime(to)}`"
          @click="emit('loop', from, to)"></button>
      </div>
      <p class="soft hint">
        {{ suspect.hint }}
        <HoldButton
          class="turn"
          data-test="hear-turn"
          title="Hold to hear it made plain for two seconds, then gone (4)"
          @hold="emit('hear', 'plain-then-gone')"
          @release="emit('hear', null)"
          >plain, then gone</HoldButton
        >
      </p>
      <div class="row">
        <span class="soft">hold to hear it</span>
        <HoldButton
          v-for="one in LISTEN"
          :key="one.how"
          :title="one.title"
          :data-test="`hear-${one.how}`"
          @hold="emit('hear', one.how)"
          @release="emit('hear', null)"
          >{{ one.label }}</HoldButton
        >
      </div>
      <div class="row">
        <button
          class="plain boxed"
          :class="{ first: suspect.proposed === 'cut' }"
          data-test="answer-cut"
          title="A cut that stands still (X)"
          @click="emit('judge', 'cut')">
          cut
        </button>
        <button
          class="plain boxed"
          :class="{ first: suspect.proposed === 'tame' }"
          data-test="answer-tame"
          title="A move that acts only while it sounds (T)"
          @click="emit('judge', 'tame')">
          tame
        </button>
        <button
          class="plain boxed"
          title="It is wanted: nothing that works by itself may touch it (K)"
          @click="emit('judge', 'wanted')">
          wanted
        </button>
        <button
          class="plain boxed"
          data-test="answer-no-fault"
          title="Not a fault: it is not shown again (D)"
          @click="emit('judge', 'no-fault')">
          not a fault
        </button>
      </div>
    </template>
  </article>
</template>

<style scoped>
.suspect {
  position: absolute;
  left: 22px;
  right: 4px;
  background: var(--paper-raised);
  border: 1px solid var(--line);
  border-left: 0;
  overflow: hidden;
  padding: 2px 6px 2px 10px;
}
.suspect::before {
  content: '';
  position: absolute;
  left: 0;
  top: 2px;
  bottom: 2px;
  width: 5px;
  border: 2px solid var(--vermilion);
  border-right: 0;
}
.open {
  z-index: 1;
  padding-bottom: 6px;
  border-color: var(--vermilion);
}
.title {
  width: 100%;
  display: flex;
  gap: 6px;
  align-items: baseline;
  border: 0;
  padding: 0;
  height: 1.5rem;
  background: none;
  color: inherit;
  font: inherit;
  text-align: left;
  cursor: pointer;
  white-space: nowrap;
  overflow: hidden;
}
.sure {
  margin-left: auto;
  font-size: 0.7812rem;
  color: var(--vermilion);
  overflow: hidden;
  text-overflow: ellipsis;
}
.sentence {
  margin: 2px 0 4px;
  line-height: 1.3;
}
.evidence {
  display: flex;
  gap: 8px;
}
.level {
  fill: none;
  stroke: var(--ink);
  stroke-width: 1.2;
}
.bracket {
  fill: none;
  stroke: var(--vermilion);
  stroke-width: 2;
}
svg {
  border-left: 1px solid var(--line);
  flex: none;
}
dl {
  display: grid;
  grid-template-columns: 2.5rem 1fr;
  gap: 1px 4px;
  margin: 0;
  font-size: 0.7188rem;
  align-content: start;
}
dt {
  color: var(--ink-soft);
}
dd {
  margin: 0;
}
.times {
  position: relative;
  height: 0.75rem;
  margin: 6px 0 3px;
  background: var(--paper);
  border-bottom: 1px solid var(--ink-soft);
}
.times button {
  position: absolute;
  top: 1px;
  height: 10px;
  padding: 0;
  border: 0;
  background: var(--vermilion);
  opacity: 0.75;
  cursor: pointer;
}
.hint {
  margin: 0 0 4px;
  font-size: 0.7812rem;
  line-height: 1.25;
}
.turn.plain {
  padding: 0 5px;
  font-size: 0.7812rem;
  color: var(--ink);
}
.row {
  display: flex;
  align-items: center;
  gap: 3px;
  margin-top: 3px;
  font-size: 0.7812rem;
  flex-wrap: wrap;
}
.row .plain {
  padding: 1px 5px;
  font-size: 0.7812rem;
}
.first {
  font-weight: 700;
  border-width: 2px;
}
</style>
