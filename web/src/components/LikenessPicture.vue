<script setup lang="ts">
/** What is wanted (ink) and what the moves draw (green): frequency runs up the page, level sideways. */
import { computed } from 'vue'

interface Curves {
  readonly hz: number[]
  readonly wanted_db: number[]
  readonly drawn_db: number[]
}
const props = defineProps<{ view: Curves }>()
const WIDTH = 250
const HEIGHT = 330
const [LOW_HZ, HIGH_HZ] = [40, 16_000]
const MARKS = [100, 1_000, 10_000]
const reach = computed(() => Math.max(6, ...[...props.view.wanted_db, ...props.view.drawn_db].map(Math.abs)))
const y = (hz: number) => HEIGHT * (1 - Math.log2(hz / LOW_HZ) / Math.log2(HIGH_HZ / LOW_HZ))
const x = (db: number) => WIDTH / 2 + (db / reach.value) * (WIDTH / 2 - 4)
const line = (db: number[]) => props.view.hz.map((hz, at) => `${x(db[at] ?? 0)},${y(hz)}`).join(' ')
const hzText = (hz: number) => (hz < 1000 ? `${hz}` : `${hz / 1000}k`)
</script>

<template>
  <svg :width="WIDTH" :height="HEIGHT" role="img" aria-label="What is wanted, and what the moves draw">
    <line :x1="WIDTH / 2" :x2="WIDTH / 2" y1="0" :y2="HEIGHT" class="zero" />
    <g v-for="hz in MARKS" :key="hz">
      <line x1="0" :x2="WIDTH" :y1="y(hz)" :y2="y(hz)" class="mark" />
      <text x="2" :y="y(hz) - 3">{{ hzText(hz) }} Hz</text>
    </g>
    <polyline :points="line(view.wanted_db)" class="wanted" />
    <polyline :points="line(view.drawn_db)" class="drawn" />
    <text :x="WIDTH - 2" :y="HEIGHT - 5" text-anchor="end">±{{ reach.toFixed(0) }} dB</text>
  </svg>
</template>

<style scoped>
svg {
  border: 1px solid var(--line);
}
.zero,
.mark {
  stroke: var(--line);
}
.wanted {
  fill: none;
  stroke: var(--ink);
  stroke-width: 1.2;
  stroke-dasharray: 4 3;
}
.drawn {
  fill: none;
  stroke: var(--green);
  stroke-width: 2;
}
text {
  font-family: var(--figures);
  font-size: 0.6875rem;
  fill: var(--ink-soft);
}
</style>
