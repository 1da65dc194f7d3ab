<script setup lang="ts">
/** All moves of the session: found, switched, and looked at where they stand. */
import { computed, ref } from 'vue'
import type { Move, MoveKind, SessionState } from '../api/client'
import { kindOf, numberOf, placeHz } from '../lib/moves'
import { allMoves, isListed, type MoveFilter, type RegisteredMove } from '../lib/ensemble'
import { formatDb, formatHz } from '../lib/figures'

const props = defineProps<{ session: SessionState; kinds: readonly MoveKind[] }>()
const emit = defineEmits<{ toggle: [move: RegisteredMove]; show: [move: RegisteredMove] }>()
const FILTERS: [MoveFilter, string][] = [
  ['all', 'all'],
  ['on', 'on'],
  ['off', 'off'],
  ['yields', 'gives way'],
  ['cuts', 'steady'],
  ['dynamic', 'moving'],
]
const filter = ref<MoveFilter>('all')
const search = ref('')

const all = computed(() => allMoves(props.session))
const listed = computed(() => all.value.filter((one) => isListed(props.kinds, one, filter.value, search.value)))
const labelOf = (move: Move) => kindOf(props.kinds, move)?.label ?? move.kind

function figures({ entry: { move } }: RegisteredMove): string {
  const [hz, db] = [placeHz(props.kinds, move), numberOf(props.kinds, move, 'gain')]
  return [hz === null ? '' : formatHz(hz), db === null ? '' : formatDb(db)].filter(Boolean).join(', ')
}
</script>

<template>
  <div class="register">
    <div class="line">
      <select v-model="filter" class="in-line" aria-label="Which moves" data-test="filter">
        <option v-for="[value, label] in FILTERS" :key="value" :value="value">{{ label }}</option>
      </select>
      <input
        v-model="search"
        type="search"
        placeholder="search name, kind, reason"
        aria-label="Search the moves"
        data-test="search" />
      <span class="soft figures" data-test="count">{{ listed.length }} of {{ all.length }}</span>
    </div>
    <p v-if="!all.length" class="soft empty">No moves yet. They come from the bench, and from the clashes.</p>
    <ul>
      <li
        v-for="one in listed"
        :key="one.stripId + one.entry.id"
        :class="{ off: one.entry.move.on === false || !one.stripOn }"
        data-test="registered">
        <input
          type="checkbox"
          :checked="one.entry.move.on !== false"
          :aria-label="`${labelOf(one.entry.move)} of ${one.stripName} on`"
          @change="emit('toggle', one)" />
        <button class="what" :title="one.entry.reason || 'See it on the bench'" @click="emit('show', one)">
          <span
            ><strong>{{ one.stripName }}</strong> {{ labelOf(one.entry.move) }}</span
          ><span class="figures">{{ figures(one) }}</span>
          <span v-if="one.entry.reason" class="soft reason">{{ one.entry.reason }}</span>
        </button>
      </li>
    </ul>
  </div>
</template>

<style scoped>
.register {
  display: flex;
  flex-direction: column;
  min-height: 0;
  flex: 1;
}
.line {
  display: flex;
  gap: 8px;
  align-items: baseline;
  padding: 6px 10px;
  border-bottom: 1px solid var(--line);
}
.line input {
  flex: 1;
  min-width: 0;
  font: inherit;
  color: inherit;
  background: transparent;
  border: 0;
  border-bottom: 1px solid var(--ink-soft);
}
.empty {
  padding: 20px;
}
ul {
  list-style: none;
  margin: 0;
  padding: 0;
  overflow: auto;
  flex: 1;
  min-height: 0;
}
li {
  display: flex;
  gap: 6px;
  align-items: flex-start;
  padding: 4px 10px;
  border-bottom: 1px solid var(--line);
}
li.off .what {
  opacity: 0.6;
  text-decoration: line-through;
}
.what {
  flex: 1;
  min-width: 0;
  display: flex;
  flex-wrap: wrap;
  justify-content: space-between;
  font: inherit;
  color: inherit;
  background: none;
  border: 0;
  padding: 0;
  text-align: left;
  cursor: pointer;
}
.reason {
  flex-basis: 100%;
  font-size: 0.7812rem;
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}
</style>
