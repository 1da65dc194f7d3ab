<script setup lang="ts">
/** The least-cut plan: its curve, a handle that chooses how many moves, each with its reason; one switch hears all. */
import { computed } from 'vue'
import { useRound } from '../composables/work'
import { formatDb } from '../lib/figures'

const { view, planned, planHeard, setPlanned, hearPlan } = useRound()
const moves = computed(() => view.value?.plan?.moves ?? [])
const WIDTH = 300
const HEIGHT = 54
const x = (n: number) => (n / Math.max(moves.value.length, 1)) * (WIDTH - 12) + 6
const y = (won: number) => HEIGHT - 6 - won * (HEIGHT - 12)
const curve = computed(
  () => `M${x(0)} ${y(0)} ` + moves.value.map((one, at) => `L${x(at + 1)} ${y(one.won)}`).join(' '),
)
const chosen = computed(() => moves.value[planned.value - 1])
</script>

<template>
  <div class="plan" data-test="plan">
    <div class="curve">
      <svg :width="WIDTH" :height="HEIGHT" aria-hidden="true">
        <path :d="curve" fill="none" stroke="var(--ink)" stroke-width="1.5" />
        <circle v-for="(one, at) in moves" :key="at" :cx="x(at + 1)" :cy="y(one.won)" r="2" fill="var(--ink)" />
        <line :x1="x(planned)" :x2="x(planned)" y1="0" :y2="HEIGHT" stroke="var(--green)" stroke-width="2" />
      </svg>
      <input
        type="range"
        min="0"
        :max="moves.length"
        :value="planned"
        aria-label="How many moves of the plan"
        :style="{ width: `${WIDTH}px` }"
        data-test="plan-moves"
        @input="setPlanned(Number(($event.target as HTMLInputElement).value))" />
    </div>
    <div>
      <p>
        {{ planned }} of {{ moves.length }} moves<template v-if="chosen"
          >: {{ Math.round(100 * chosen.won) }} % won, at {{ chosen.cost_sone.toFixed(2) }} sone of cost</template
        >
      </p>
      <p>
        <button class="plain boxed" :aria-pressed="planHeard" data-test="hear-plan" @click="hearPlan(!planHeard)">
          <span class="figures key">P</span> heard with them
        </button>
      </p>
      <p v-for="one in view?.plan?.faders ?? []" :key="one" class="soft">{{ one }}.</p>
    </div>
    <ol>
      <li v-for="(one, at) in moves" :key="one.entry.id" :class="{ out: at >= planned }">
        {{ one.sentence }}, {{ formatDb(one.depth_db) }}
      </li>
    </ol>
  </div>
</template>

<style scoped>
.plan {
  display: grid;
  grid-template-columns: auto 1fr;
  gap: 4px 16px;
  font-size: 0.8438rem;
}
.curve {
  display: grid;
}
p {
  margin: 0 0 3px;
}
ol {
  grid-column: 1 / -1;
  margin: 0;
  padding-left: 20px;
  columns: 2;
  max-height: 120px;
  overflow-y: auto;
}
.out {
  color: var(--ink-soft);
  text-decoration: line-through;
}
.key {
  color: var(--ochre);
  font-weight: 600;
}
[aria-pressed='true'] .key {
  color: inherit;
}
</style>
