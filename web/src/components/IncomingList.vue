<script setup lang="ts">
/** Files coming in: how far each is, or why it was refused. */
import { ElProgress } from 'element-plus'
import type { Incoming } from '../lib/incoming'

defineProps<{ incoming: readonly Incoming[] }>()
const emit = defineEmits<{ clear: []; sections: [row: Incoming]; lineUp: [row: Incoming] }>()
const WORDS: Record<Incoming['state'], string> = {
  waiting: 'waits',
  sending: 'going up',
  reading: 'being read and converted',
  in: 'is in',
  refused: 'refused',
}
</script>

<template>
  <ul class="incoming" aria-label="Files coming in">
    <li v-for="(row, index) in incoming" :key="index" :class="row.state">
      <bdi class="file">{{ row.name }}</bdi>
      <ElProgress
        v-if="row.state === 'sending' || row.state === 'reading'"
        class="progress"
        :percentage="Math.round(row.part * 100)"
        :indeterminate="row.state === 'reading'"
        :show-text="false" />
      <span class="how"
        >{{ WORDS[row.state] }}<template v-if="row.reason">: {{ row.reason }}</template></span
      >
      <button v-if="row.marked" class="plain boxed" data-test="make-sections" @click="emit('sections', row)">
        make sections of its {{ row.marked.n }} {{ row.marked.n === 1 ? 'marker' : 'markers' }}
      </button>
      <button v-if="row.later" class="plain boxed" data-test="line-up" @click="emit('lineUp', row)">line it up</button>
    </li>
    <button class="plain clear" @click="emit('clear')">clear this list</button>
  </ul>
</template>

<style scoped>
.incoming {
  list-style: none;
  margin: 0 0 14px;
  padding: 8px 12px;
  background: var(--paper-sunk);
}
.incoming .clear {
  padding: 2px 0;
  text-decoration: underline;
}
.incoming li {
  display: flex;
  gap: 12px;
  align-items: center;
  padding: 2px 0;
}
.file {
  width: 16.25rem;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.progress {
  width: 11.25rem;
}
.refused .how {
  color: var(--vermilion);
  font-weight: 700;
}
.in .how {
  color: var(--green);
}
</style>
