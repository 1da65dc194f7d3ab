<script setup lang="ts">
/** Always there: which session and screen, playing, how one listens, undo and whether all is saved. */
import type { SaveState } from '../lib/intents'
import { formatTime } from '../lib/figures'
import OneOf from './OneOf.vue'
import OutputMeter from './OutputMeter.vue'

defineProps<{
  sessionId: string
  name: string
  playing: boolean
  position: () => number
  alone: boolean
  aloneName: string
  dim: boolean
  peakDb: number | null
  loudnessLufs: number | null
  guardDb: number
  undoLabel: string | null
  redoLabel: string | null
  saveState: SaveState
  late: boolean
  pressure: boolean
  through: string
}>()
const emit = defineEmits<{
  toggle: []
  alone: [alone: boolean]
  pressure: []
  dim: []
  undo: []
  redo: []
  theme: []
}>()
const THROUGH_WORDS: Record<string, string> = {
  mono: 'heard in mono',
  'small-speaker': 'small speaker',
  curve: 'own curve',
}
const SAVE_WORDS: Record<SaveState, string> = {
  saved: 'all saved',
  saving: 'saving',
  waiting: 'not saved yet',
  failed: 'not saved',
}
</script>

<template>
  <header class="top">
    <RouterLink class="home" to="/" title="All sessions">Mivlo</RouterLink>
    <h1 class="name" :title="name">
      <bdi>{{ name }}</bdi>
    </h1>
    <nav aria-label="Screens">
      <RouterLink :to="`/session/${sessionId}/gather`">Gather</RouterLink>
      <RouterLink :to="`/session/${sessionId}/round`">Round</RouterLink>
      <RouterLink :to="`/session/${sessionId}/bench`">Bench</RouterLink>
      <RouterLink :to="`/session/${sessionId}/ensemble`">Ensemble</RouterLink>
      <RouterLink :to="`/session/${sessionId}/proof`">Proof</RouterLink>
      <RouterLink :to="`/session/${sessionId}/hand-over`">Hand-over</RouterLink>
    </nav>
    <slot />
    <button
      class="plain boxed play"
      data-test="play"
      :aria-pressed="playing"
      title="Play or stop (space)"
      @click="emit('toggle')">
      {{ playing ? 'Stop' : 'Play' }}
    </button>
    <span class="figures position">{{ formatTime(position()) }}</span>
    <OneOf
      label="What is heard"
      :model-value="alone"
      :choices="[
        { is: true, label: 'alone', title: `Hear ${aloneName} alone (A)` },
        { is: false, label: 'in the mix', title: 'Hear it in the mix (A)' },
      ]"
      @update:model-value="emit('alone', $event)" />
    <button
      class="plain boxed"
      data-test="pressure"
      :aria-pressed="pressure"
      title="Pressure test: hear everything as if it were compressed and put in a room already; what comes back? (U)"
      @click="emit('pressure')">
      pressure
    </button>
    <OutputMeter :peak-db="peakDb" :loudness-lufs="loudnessLufs" />
    <button class="plain" :aria-pressed="dim" title="Turn the output down by 20 dB, to talk" @click="emit('dim')">
      dim
    </button>
    <span class="now" role="status">
      <span
        v-if="through !== 'nothing'"
        title="What you listen through, for your ears only (M)"
        data-test="through-now"
        >{{ THROUGH_WORDS[through] }}</span
      >
      <span
        v-else-if="guardDb < -0.5"
        title="The probe's guard turns the whole output down, so that the sweep cannot get loud."
        >guard {{ guardDb.toFixed(0).replace('-', '−') }} dB</span
      >
      <span
        v-else-if="late"
        data-test="late"
        title="This machine is busy: sound came too late, and there was a gap. It is rendered further ahead now."
        >busy: a gap</span
      >
    </span>
    <span class="space"></span>
    <span class="saved" :class="saveState" role="status">{{ SAVE_WORDS[saveState] }}</span>
    <button
      class="plain"
      :disabled="!undoLabel"
      :title="undoLabel ? `Undo: ${undoLabel} (Ctrl Z)` : 'Nothing to undo'"
      @click="emit('undo')">
      undo
    </button>
    <button
      class="plain"
      :disabled="!redoLabel"
      :title="redoLabel ? `Redo: ${redoLabel} (Ctrl Shift Z)` : 'Nothing to redo'"
      @click="emit('redo')">
      redo
    </button>
    <button class="plain night" title="Paper or night" aria-label="day/night" @click="emit('theme')"></button>
  </header>
</template>

<style scoped>
.top {
  display: flex;
  align-items: center;
  gap: 4px;
  height: 2.75rem;
  padding: 0 10px;
  border-bottom: 1.5px solid var(--ink);
  white-space: nowrap;
}
/* In a narrow window, or with large text, it takes two lines: nothing leaves the window. */
@media (max-width: 75em) {
  .top {
    flex-wrap: wrap;
    height: auto;
    min-height: 2.75rem;
    padding: 3px 10px;
  }
}
/* The treatments' letters take as much as a button each. */
@media (max-width: 86em) {
  .top:has(.tabs) {
    flex-wrap: wrap;
    height: auto;
    padding: 3px 10px;
  }
}
.home {
  font-weight: 700;
  font-size: 1.125rem;
  color: var(--ink);
  text-decoration: none;
}
.name {
  max-width: 11.875rem;
  min-width: 1.5rem;
  flex-shrink: 1;
  overflow: hidden;
  text-overflow: ellipsis;
  color: var(--ink-soft);
  font: inherit;
  margin: 0;
}
nav {
  display: flex;
  gap: 3px;
}
nav a {
  color: var(--ink);
  text-decoration: none;
  padding: 10px 3px;
  border-bottom: 3px solid transparent;
  margin-bottom: -1px;
}
nav a.router-link-active {
  border-bottom-color: var(--ink);
  font-weight: 700;
}
.play {
  width: 3.375rem;
}
.position {
  width: 3.125rem;
  text-align: right;
}
.space {
  flex: 1;
}
/* A fixed place: nothing may move while somebody sweeps. */
.now {
  font-size: 0.8125rem;
  color: var(--ochre);
  font-weight: 700;
  width: 5.125rem;
  flex-shrink: 0;
}
/* A sheet, half of it in the dark. */
.night {
  flex-shrink: 0;
  width: 0.9375rem;
  height: 1.1875rem;
  padding: 0;
  border: 1.5px solid var(--ink);
  box-shadow: inset -6px 0 0 var(--ink);
}
.saved {
  font-size: 0.8125rem;
  color: var(--ink-soft);
  flex-shrink: 0;
}
.saved.failed,
.saved.waiting {
  color: var(--vermilion);
  font-weight: 700;
}
</style>
