<script setup lang="ts">
/** The chosen row's track around its place, on the usual axis, beside those who cover it; the place is marked. */
import { computed } from 'vue'
import type { ColumnView, EnsembleView, RoundRow } from '../api/client'
import { HIGHEST_HZ, LOWEST_HZ, wholeAxis, yOfHz, type FrequencyView } from '../lib/axis'
import { pictureOf } from '../lib/ensemble'
import { formatHz } from '../lib/figures'
import ColumnPicture from './ColumnPicture.vue'
import NoteRuler from './NoteRuler.vue'

const props = defineProps<{ row: RoundRow; view: EnsembleView; columns: readonly ColumnView[] }>()
const AROUND = 8 // two and a bit octaves either way
const BRACKET_OCTAVES = 1 / 6

const frequency = computed<FrequencyView>(() => {
  const low = props.row.low_hz ?? props.row.hz
  const high = props.row.high_hz ?? props.row.hz
  if (!low || !high || props.row.kind === 'cellar') return wholeAxis
  return { lowHz: Math.max(low / AROUND, LOWEST_HZ), highHz: Math.min(high * AROUND, HIGHEST_HZ) }
})
const part = (hz: number) =>
  100 * yOfHz(Math.min(Math.max(hz, frequency.value.lowHz), frequency.value.highHz), frequency.value, 1)
const mark = computed(() => {
  const low = props.row.low_hz ?? (props.row.hz ?? 0) / 2 ** BRACKET_OCTAVES
  const high = props.row.high_hz ?? (props.row.hz ?? 0) * 2 ** BRACKET_OCTAVES
  if (!low || !high) return null
  return { top: `${part(high)}%`, height: `${Math.max(part(low) - part(high), 1)}%` }
})
const span = computed(() => (props.view.n_times ?? 1) * (props.view.step_s ?? 1))
const loop = computed(() => {
  const at = props.row.loop_s
  if (!at) return null
  const start = Math.max(at[0] - (props.view.start_s ?? 0), 0)
  return { left: `${(100 * start) / span.value}%`, width: `${(100 * (at[1] - at[0])) / span.value}%` }
})
</script>

<template>
  <div class="picture">
    <NoteRuler class="ruler" :view="frequency" :marked-hz="null" />
    <figure v-for="(column, index) in columns" :key="column.id" :class="{ own: index === 0 }">
      <div class="canvas">
        <ColumnPicture
          :picture="pictureOf(column, true)"
          :edges="view.edges_hz ?? []"
          :n-times="view.n_times ?? 0"
          :hidden-from="view.hidden_from ?? 255"
          :frequency="frequency" />
        <span v-if="loop" class="loop" :style="loop"></span>
        <span v-if="mark" class="mark" :style="mark"></span>
      </div>
      <figcaption :class="{ soft: index > 0 }">
        {{ column.name }}{{ index === 0 && row.hz ? ` · ${formatHz(row.hz)}` : '' }}
      </figcaption>
    </figure>
  </div>
</template>

<style scoped>
.picture {
  display: flex;
  gap: 8px;
  height: 100%;
  min-height: 0;
}
.ruler {
  width: 58px;
  height: calc(100% - 24px);
}
figure {
  margin: 0;
  flex: 1;
  min-width: 0;
  display: flex;
  flex-direction: column;
}
.own {
  flex: 3;
}
.canvas {
  flex: 1;
  min-height: 0;
  position: relative;
  border: 1px solid var(--line);
}
figcaption {
  height: 24px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
  font-size: 0.8438rem;
}
/* Side brackets, as on the bench: nothing is laid over the picture itself. */
.mark {
  position: absolute;
  left: 0;
  right: 0;
  border-left: 4px solid var(--vermilion);
  border-right: 4px solid var(--vermilion);
  pointer-events: none;
}
figure:not(.own) .mark {
  border-color: var(--slate);
}
.loop {
  position: absolute;
  bottom: 0;
  height: 5px;
  background: var(--ochre);
  pointer-events: none;
}
</style>
