<script setup lang="ts">
/** What all moves together do to the mix: by ear at equal loudness, in figures, and in its spectrum. */
import { computed } from 'vue'
import type { MixComparison } from '../api/client'
import { wholeAxis } from '../lib/axis'
import { formatDb } from '../lib/figures'
import NoteRuler from './NoteRuler.vue'
import OneOf from './OneOf.vue'
import SpectrumLane from './SpectrumLane.vue'

const props = defineProps<{ comparison: MixComparison | null; off: boolean; matched: boolean; matchDb: number }>()
const emit = defineEmits<{ off: [is: boolean]; matched: [is: boolean] }>()
const response = computed(
  () => props.comparison?.after_db.map((db, index) => db - (props.comparison?.before_db[index] ?? db)) ?? [],
)
const figureText = (value: number | null | undefined, unit: string) =>
  value === null || value === undefined ? 'silent' : `${value.toFixed(1).replace('-', '−')} ${unit}`
const rows = computed(() => {
  const figures = props.comparison?.listening
  return figures
    ? [
        ['before', figures.before, figures.match_before_db] as const,
        ['after', figures.after, figures.match_after_db] as const,
      ]
    : []
})
</script>

<template>
  <div class="compare" data-test="mix-compare">
    <div class="line">
      <OneOf
        label="The mix before or after all moves"
        :model-value="off"
        :choices="[
          { is: true, label: 'before', title: 'Hear the mix without any move', test: 'mix-before' },
          { is: false, label: 'after', title: 'Hear the mix with all moves', test: 'mix-after' },
        ]"
        @update:model-value="emit('off', $event)" />
      <label
        ><input
          type="checkbox"
          :checked="matched"
          @change="emit('matched', ($event.target as HTMLInputElement).checked)" />
        level-matched <span class="figures">{{ matched ? formatDb(matchDb) : 'off' }}</span></label
      >
    </div>
    <p v-if="!comparison" class="soft">rendering the mix both ways …</p>
    <table v-else class="figures">
      <thead>
        <tr>
          <th></th>
          <th>loudness</th>
          <th>true peak</th>
          <th>turned down</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="[name, figures, match] in rows" :key="name">
          <th>{{ name }}</th>
          <td>{{ figureText(figures.loudness_lufs, 'LUFS') }}</td>
          <td>{{ figureText(figures.true_peak_db, 'dBTP') }}</td>
          <td>{{ formatDb(match) }}</td>
        </tr>
      </tbody>
    </table>
    <div v-if="comparison" class="lanes">
      <NoteRuler :view="wholeAxis" />
      <div class="lane">
        <SpectrumLane
          :hz="comparison.hz"
          :spectrum="{ level_db: comparison.before_db }"
          :response="response"
          :frequency="wholeAxis" />
      </div>
    </div>
    <p class="soft sentence">
      Over the loop, or the whole song. Ink: before; green: after all moves of all tracks, groups and the mix.
    </p>
  </div>
</template>

<style scoped>
.compare {
  padding: 8px 10px;
  display: flex;
  flex-direction: column;
  min-height: 0;
  flex: 1;
  gap: 6px;
}
.line {
  display: flex;
  gap: 10px;
  align-items: center;
}
table {
  border-collapse: collapse;
  font-size: 0.75rem;
}
th {
  text-align: left;
  font-weight: 400;
  color: var(--ink-soft);
  padding: 2px 6px 2px 0;
}
td {
  padding: 2px 6px 2px 0;
  border-top: 1px solid var(--line);
}
.lanes {
  flex: 1;
  min-height: 120px;
  display: grid;
  grid-template-columns: 58px minmax(0, 1fr);
  border: 1px solid var(--line);
}
.lane {
  position: relative;
  min-height: 0;
  overflow: hidden;
  border-left: 1px solid var(--line);
}
.sentence {
  margin: 0;
  font-size: 0.7812rem;
}
</style>
