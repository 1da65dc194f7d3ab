<script setup lang="ts">
/**
 * The lows of all tracks together: what bass and kick need, what the others pile on it, and what the cuts take off
 * that.
 */
import { computed } from 'vue'
import type { PileUp } from '../api/client'
import { yOfHz } from '../lib/axis'
import { formatHz, unbroken } from '../lib/figures'

const props = defineProps<{ sum: PileUp; needing: string[] }>()
const WIDTH = 330
const HEIGHT = 250
const FEET = 18 // room for the dB scale under the picture
const RANGE_DB = 60
const view = { lowHz: 28, highHz: 500 }
const TICKS_HZ = [30, 50, 100, 200, 500]
const GRID_DB = 20

const topDb = computed(() => Math.ceil((Math.max(...props.sum.needed_db, ...props.sum.others_db) + 1) / 5) * 5)
const x = (db: number) => WIDTH * Math.max(1 - (topDb.value - db) / RANGE_DB, 0)
const y = (hz: number) => yOfHz(hz, view, HEIGHT)
const points = (levels: readonly number[]) =>
  levels.map((db, index) => `${x(db).toFixed(1)} ${y(props.sum.hz[index] ?? view.lowHz).toFixed(1)}`)
const line = (levels: readonly number[]) => `M${points(levels).join('L')}`
const needed = computed(() => `M0 ${y(props.sum.hz[0] ?? view.lowHz)}L${points(props.sum.needed_db).join('L')}L0 0Z`)
const taken = computed(
  () => `M${points(props.sum.others_db).join('L')}L${points(props.sum.left_db).reverse().join('L')}Z`,
)
const grid = computed(() =>
  [1, 2].map((n) => Math.floor(topDb.value / GRID_DB) * GRID_DB - (n - 1) * GRID_DB).filter((db) => x(db) < WIDTH - 20),
)
const lost = computed(() => unbroken(`${props.sum.lost_db.toFixed(1)} dB`))
</script>

<template>
  <figure class="sum" data-test="cellar-sum">
    <figcaption>All tracks together, below 500&nbsp;Hz</figcaption>
    <svg
      :width="WIDTH + 42"
      :height="HEIGHT + FEET"
      role="img"
      :aria-label="`All lows together; the chosen cuts take ${lost} off what lies below the lowest notes`">
      <defs>
        <pattern id="taken" width="5" height="5" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <line x1="0" x2="0" y1="0" y2="5" class="hatch" />
        </pattern>
      </defs>
      <g transform="translate(42 0)">
        <path class="needed" :d="needed" />
        <g v-for="hz in TICKS_HZ" :key="hz">
          <line class="tick" x1="0" :x2="WIDTH" :y1="y(hz)" :y2="y(hz)" />
          <text class="figures" x="-4" :y="Math.min(Math.max(y(hz) + 4, 10), HEIGHT - 2)" text-anchor="end">
            {{ formatHz(hz).replace(' Hz', '').replace('.0', '') }}
          </text>
        </g>
        <g v-for="db in grid" :key="db">
          <line class="tick" :x1="x(db)" :x2="x(db)" y1="0" :y2="HEIGHT" />
          <text class="figures" :x="x(db)" :y="HEIGHT + 13" text-anchor="middle">{{ `${db}`.replace('-', '−') }}</text>
        </g>
        <text class="figures" :x="WIDTH" :y="HEIGHT + 13" text-anchor="end">dB</text>
        <path class="taken" :d="taken" />
        <path class="others" :d="line(sum.others_db)" />
        <path class="left" :d="line(sum.left_db)" />
      </g>
    </svg>
    <p class="soft">
      <span class="key wash"></span>
      {{
        needing.length
          ? `what ${needing.join(' and ')} need${needing.length === 1 ? 's' : ''}`
          : 'no track here needs its lows'
      }}
    </p>
    <p class="soft"><span class="key dots"></span> the other tracks, as they are</p>
    <p class="soft"><span class="key hatched"></span> what the cuts take off them: {{ lost }} below the lowest notes</p>
  </figure>
</template>

<style scoped>
.sum {
  margin: 0;
  width: 372px;
}
figcaption {
  color: var(--ink-soft);
  padding: 2px 0 6px;
}
svg {
  display: block;
  overflow: visible;
}
text {
  font-size: 0.6875rem;
  fill: var(--ink-soft);
}
path {
  fill: none;
}
.needed {
  fill: var(--ink);
  fill-opacity: 0.16;
  stroke: var(--ink);
  stroke-width: 1;
}
.others {
  stroke: var(--ink);
  stroke-width: 1.4;
  stroke-dasharray: 1.5 3;
}
.left {
  stroke: var(--green);
  stroke-width: 1.8;
}
.taken {
  fill: url('#taken');
}
.hatch {
  stroke: var(--green);
  stroke-width: 1.6;
}
.tick {
  stroke: var(--line);
}
p {
  margin: 2px 0 0;
  font-size: 0.7812rem;
}
.key {
  display: inline-block;
  width: 22px;
  height: 10px;
  margin-right: 4px;
  vertical-align: -1px;
}
.wash {
  background: color-mix(in srgb, var(--ink) 16%, transparent);
  border-right: 1px solid var(--ink);
}
.dots {
  height: 0;
  border-top: 2px dotted var(--ink);
  vertical-align: 3px;
}
.hatched {
  background: repeating-linear-gradient(45deg, var(--green) 0 1.5px, transparent 1.5px 4px);
  border-left: 2px solid var(--green);
}
</style>
