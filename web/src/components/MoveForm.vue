<script setup lang="ts">
/** The chosen move's figures. What there is to fill in follows from the kinds that the core describes. */
import { computed } from 'vue'
import type { Figure, Move, MoveKind } from '../api/client'
import { moveOfKind, withFigure } from '../lib/edits'
import FigureInput from './FigureInput.vue'

const props = defineProps<{ move: Move; kinds: MoveKind[] }>()
const emit = defineEmits<{ change: [move: Move, label: string] }>()
const kind = computed(() => props.kinds.find((known) => known.kind === props.move.kind))
const values = computed(() => props.move as unknown as Record<string, number>)
const shown = computed(() => kind.value?.figures.filter((f) => !(f.name === 'q' && values.value['slope_db_per_octave'] === 6)) ?? [])

function chooseKind(event: Event) {
  const wanted = props.kinds.find((known) => known.kind === (event.target as HTMLSelectElement).value)
  if (wanted) emit('change', moveOfKind(wanted, props.move.hz, props.move), `Make it a ${wanted.label.toLowerCase()}`)
}

const set = (figure: Figure, value: number) =>
  emit('change', withFigure(props.move, figure.name, value), `${kind.value?.label}: ${figure.title.toLowerCase()}`)
</script>

<template>
  <div class="form">
    <label class="line"><span class="soft">Kind</span>
      <select :value="move.kind" aria-label="Kind" @change="chooseKind">
        <option v-for="known in kinds" :key="known.kind" :value="known.kind">{{ known.label }}</option>
      </select>
    </label>
    <template v-for="figure in shown" :key="figure.name">
      <label v-if="figure.choices.length" class="line"><span class="soft">{{ figure.title }}</span>
        <select class="figures" :value="values[figure.name]" :aria-label="figure.title" @change="set(figure, Number(($event.target as HTMLSelectElement).value))">
          <option v-for="choice in figure.choices" :key="choice" :value="choice">{{ choice }} {{ figure.unit }}</option>
        </select>
      </label>
      <FigureInput v-else :label="figure.title" :unit="figure.unit" :value="values[figure.name] ?? 0"
        :minimum="figure.minimum ?? -Infinity" :maximum="figure.maximum ?? Infinity" @commit="set(figure, $event)" />
    </template>
  </div>
</template>

<style scoped>
.form { display: grid; gap: 3px; }
.line { display: grid; grid-template-columns: 74px 1fr; gap: 6px; align-items: baseline; }
select { font: inherit; color: var(--ink); background: transparent; border: 0; border-bottom: 1px solid var(--ink-soft); padding: 1px 0; }
select.figures { font-family: var(--figures); font-size: 0.86em; }
</style>
