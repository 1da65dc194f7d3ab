<script setup lang="ts">
/** What a yield has brought, measured again: who gained, who lost, what stays hidden; before and after on one axis. */
import { computed } from 'vue'
import type { ProofView } from '../api/client'
import { unbroken } from '../lib/figures'

const props = defineProps<{ proof: ProofView; bandsHz: readonly number[]; front: string; yielding: string }>()
const WIDTH = 150
const HEIGHT = 110
const LOWEST_HZ = 40
const HIGHEST_HZ = 16_000

const top = computed(() => Math.max(...props.proof.before, ...props.proof.after, ...props.proof.yielding_before, 0.001))
const yOf = (hz: number) =>
  HEIGHT * (1 - Math.log2(Math.max(hz, LOWEST_HZ) / LOWEST_HZ) / Math.log2(HIGHEST_HZ / LOWEST_HZ))

function path(levels: readonly number[]): string {
  return levels
    .map((level, band) =>
      [band ? 'L' : 'M', 1 + (level / top.value) * (WIDTH - 3), yOf(props.bandsHz[band] ?? LOWEST_HZ)]
        .map((one) => (typeof one === 'number' ? one.toFixed(1) : one))
        .join(' '),
    )
    .join(' ')
}
const region = computed(() => ({
  y: yOf(props.proof.high_hz),
  height: Math.max(yOf(props.proof.low_hz) - yOf(props.proof.high_hz), 2),
}))
const PICTURES = computed(() => [
  { name: props.front, before: props.proof.before, after: props.proof.after },
  { name: props.yielding, before: props.proof.yielding_before, after: props.proof.yielding_after },
])
</script>

<template>
  <div class="proof" data-test="proof" :data-verdict="proof.verdict">
    <p class="verdict" :class="proof.verdict.replace(' ', '-')">{{ proof.verdict }}</p>
    <p class="sentence">{{ unbroken(proof.sentence) }}.</p>
    <div class="pictures">
      <figure v-for="one in PICTURES" :key="one.name">
        <svg :width="WIDTH" :height="HEIGHT" role="img" :aria-label="`${one.name} among the others, before and after`">
          <rect x="0" :y="region.y" :width="WIDTH" :height="region.height" class="region" />
          <path :d="path(one.before)" class="before" />
          <path :d="path(one.after)" class="after" />
        </svg>
        <figcaption class="soft">{{ one.name }}</figcaption>
      </figure>
    </div>
    <p class="soft key">
      <svg width="22" height="8" aria-hidden="true"><path d="M0 4 H22" class="before" /></svg> before
      <svg width="22" height="8" aria-hidden="true"><path d="M0 4 H22" class="after" /></svg> after: what is heard of it
      among all
    </p>
  </div>
</template>

<style scoped>
.proof {
  margin: 4px 0;
}
.verdict {
  margin: 0;
  font-weight: 700;
}
.came-forward {
  color: var(--green);
}
.a-little {
  color: var(--ochre);
}
.gained-nothing {
  color: var(--vermilion);
}
.sentence {
  margin: 0 0 4px;
  line-height: 1.3;
}
.pictures {
  display: flex;
  gap: 10px;
}
figure {
  margin: 0;
  font-size: 0.75rem;
}
svg {
  border-left: 1px solid var(--line);
}
.key svg {
  border: 0;
}
.key {
  margin: 2px 0;
  font-size: 0.75rem;
}
.region {
  fill: var(--slate);
  opacity: 0.14;
}
path {
  fill: none;
  stroke-width: 1.5;
}
.before {
  stroke: var(--ink);
  stroke-dasharray: 4 3;
}
.after {
  stroke: var(--green);
  stroke-width: 2;
}
</style>
