<script setup lang="ts">
/** A drafted cut in the margin, not yet in the ledger: heard alone or without, switched off, or its place kept. */
import type { SurveyCut } from '../api/client'
import { formatDb, formatHz } from '../lib/figures'
import HoldButton from './HoldButton.vue'

defineProps<{ cut: SurveyCut; on: boolean; open: boolean }>()
const emit = defineEmits<{ choose: []; toggle: []; keep: []; hear: [how: 'only-it' | 'without-it' | null] }>()
</script>

<template>
  <article class="draft" :class="{ open, off: !on }" data-test="drafted-cut">
    <header>
      <button
        class="plain tick"
        role="switch"
        :aria-checked="on"
        :aria-label="`Draft at ${formatHz(cut.move.hz)}`"
        @click="emit('toggle')">
        {{ on ? 'on' : 'off' }}
      </button>
      <button class="title" :aria-expanded="open" :title="cut.reason" @click="emit('choose')">
        <span class="figures">{{ formatHz(cut.move.hz) }}</span>
        <span class="figures take">{{ formatDb(cut.move.gain_db ?? 0) }}</span>
      </button>
    </header>
    <template v-if="open">
      <p class="sentence">{{ cut.reason }} ({{ cut.nearest_note }}).</p>
      <div class="row">
        <HoldButton
          title="Hold to hear the track with this one alone"
          @hold="emit('hear', 'only-it')"
          @release="emit('hear', null)"
          >only it</HoldButton
        >
        <HoldButton
          title="Hold to hear all but this one"
          @hold="emit('hear', 'without-it')"
          @release="emit('hear', null)"
          >all but it</HoldButton
        >
        <button class="plain" title="This place is wanted: nothing is drafted there" @click="emit('keep')">keep</button>
      </div>
    </template>
  </article>
</template>

<style scoped>
.draft {
  --edge: 2px dashed var(--green);
}
.draft.off {
  opacity: 0.6;
}
header,
.row {
  display: flex;
  gap: 6px;
  align-items: baseline;
}
.title {
  flex: 1;
  display: flex;
  border: 0;
  padding: 0;
  background: none;
  color: inherit;
  font: inherit;
  cursor: pointer;
}
.tick,
.row .plain {
  padding: 0 3px;
  font-size: 0.7812rem;
}
.take {
  margin-left: auto;
  color: var(--green);
}
.sentence {
  margin: 0 0 2px;
  font-size: 0.7812rem;
  line-height: 1.25;
}
</style>
