<script setup lang="ts">
/** How a room dies away, as one line: level sideways in time, from when it begins until it is 60 dB down. */
import { computed } from 'vue'

const props = defineProps<{ decayS: number; delayMs: number }>()
const LONGEST_S = 8.5
const WIDTH = 220
const HEIGHT = 26
const x = (seconds: number) => (WIDTH * Math.log1p(seconds * 8)) / Math.log1p(LONGEST_S * 8)
const path = computed(() => {
  const starts = props.delayMs / 1000
  const points = Array.from({ length: 25 }, (_, index) => index / 24).map(
    (part) => `${x(starts + part * props.decayS).toFixed(1)} ${(2 + part * (HEIGHT - 4)).toFixed(1)}`,
  )
  return `M0 2 H2 M${points.join(' L')}`
})
</script>

<template>
  <svg
    class="decay"
    :viewBox="`0 0 ${WIDTH} ${HEIGHT}`"
    preserveAspectRatio="none"
    role="img"
    :aria-label="`Dies away in ${decayS} s`">
    <path class="rest" :d="`M0 ${HEIGHT - 2} H${WIDTH}`" />
    <path class="line" :d="path" />
  </svg>
</template>

<style scoped>
.decay {
  width: 100%;
  height: 30px;
  display: block;
}
.rest {
  stroke: var(--line);
}
.line {
  stroke: var(--slate);
  stroke-width: 2;
  fill: none;
  vector-effect: non-scaling-stroke;
}
</style>
