<script setup lang="ts">
/** The list of the round: a page of a score, read from the top; each row a sentence, ink for how much it is heard. */
import { nextTick, useTemplateRef, watch } from 'vue'
import type { RoundRow } from '../api/client'
import { useRound } from '../composables/work'

const { rows, rowId, choose } = useRound()
const list = useTemplateRef<HTMLElement>('list')
const PLAIN_DB = 6

const HEARD = { plain: 'plain', faint: 'faint', lost: 'lost in the mix' } as const
/** The stroke's width and ink: how much of it is heard in the mix. */
function stroke(row: RoundRow) {
  const part = row.change_db == null ? 0.35 : Math.min(row.change_db / PLAIN_DB, 1)
  return { width: `${Math.round(6 + 34 * part)}px`, opacity: row.status === 'done' ? 0.25 : 0.3 + 0.7 * part }
}
const label = (row: RoundRow) =>
  row.outcome ? row.outcome : [row.heard ? HEARD[row.heard] : '', row.sureness].filter(Boolean).join(' · ')

watch(rowId, async () => {
  await nextTick()
  list.value?.querySelector('[aria-current="true"]')?.scrollIntoView({ block: 'nearest' })
})
</script>

<template>
  <ol ref="list" data-hint="round" class="rows" aria-label="What is to be judged" data-test="round-rows">
    <li v-for="(row, index) in rows" :key="row.id" :class="row.status.replace(' ', '-')">
      <p v-if="row.status !== rows[index - 1]?.status && row.status !== 'to judge'" class="part soft">
        {{ row.status === 'later' ? 'later' : 'done' }}
      </p>
      <button
        :aria-current="row.id === rowId"
        :data-test="`round-${row.kind}`"
        :data-row="row.id"
        :data-status="row.status"
        @click="choose(row)">
        <span class="ink"><span class="stroke" :style="stroke(row)"></span></span>
        <span class="sentence">{{ row.sentence }}</span>
        <span class="soft word" :title="label(row)">{{ label(row) }}</span>
      </button>
    </li>
  </ol>
</template>

<style scoped>
.rows {
  margin: 0;
  padding: 0;
  list-style: none;
  overflow-y: auto;
  flex: 1;
  min-height: 0;
}
.part {
  margin: 8px 0 0 12px;
  font-size: 0.8125rem;
}
button {
  display: grid;
  grid-template-columns: 44px minmax(0, 1fr) minmax(0, auto);
  gap: 8px;
  align-items: center;
  width: 100%;
  padding: 5px 12px;
  font: inherit;
  color: inherit;
  text-align: left;
  background: none;
  border: 0;
  border-bottom: 1px solid var(--line);
  cursor: pointer;
}
button[aria-current='true'] {
  background: var(--paper-sunk);
  box-shadow: inset 4px 0 0 var(--ink);
}
.ink {
  display: flex;
  justify-content: flex-end;
}
.stroke {
  height: 5px;
  background: var(--ink);
}
.sentence {
  overflow-wrap: anywhere;
}
.done .sentence,
.later .sentence {
  color: var(--ink-soft);
}
.word {
  font-size: 0.8125rem;
  text-align: right;
  max-width: 210px;
}
</style>
