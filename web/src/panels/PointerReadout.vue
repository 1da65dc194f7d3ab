<script setup lang="ts">
/** The line at the pointer, or at the probe, with its frequency, note and how much stands out there. */
import { computed } from 'vue'
import { useBench, usePlay, useViews } from '../composables/work'
import { yOfHz } from '../lib/axis'
import { formatHz, noteOfHz } from '../lib/figures'
import { saysOfPlace } from '../lib/places'

const { probe, pipeHz } = usePlay()
const { shownHz, frequency, laneSize, probeWidth, excessAt } = useBench()
const { placesShown, placeCurve } = useViews()
const lineY = computed(() =>
  shownHz.value === null ? null : yOfHz(shownHz.value, frequency.value, laneSize.value.height),
)
const readout = computed(() => {
  const hz = shownHz.value
  if (hz === null) return null
  const note = noteOfHz(hz)
  return {
    hz: formatHz(hz),
    note: `${note.name} ${note.cents < 0 ? '−' : '+'}${Math.abs(note.cents)} ct`,
    excess: excessAt(hz),
    place: placesShown.value && placeCurve.value ? saysOfPlace(placeCurve.value, hz) : '',
  }
})

const PROBED = { lift: 'lifted', dip: 'dipped', only: 'only this' }
const probeText = ({ kind = 'lift', amount_db = 15 }: { kind?: keyof typeof PROBED; amount_db?: number }) =>
  kind === 'only' ? PROBED.only : `${PROBED[kind]} ${amount_db} dB`
</script>

<template>
  <template v-if="lineY !== null && readout">
    <div class="line" :class="{ lifting: probe }" :style="{ top: `${lineY}px` }"></div>
    <div
      class="readout figures"
      data-test="readout"
      :class="{ lifting: probe, below: lineY < 46 }"
      :style="{ top: `${lineY}px` }">
      <strong>{{ readout.hz }}</strong> {{ readout.note }}
      <div v-if="readout.excess !== null" class="soft">
        {{ readout.excess > 0.5 ? `stands out ${readout.excess.toFixed(1)} dB here` : 'does not stand out here' }}
      </div>
      <div v-if="readout.place" data-test="place-says">{{ readout.place }}</div>
      <div v-if="probe">{{ probeText(probe) }}, {{ probeWidth.toFixed(2) }} oct</div>
      <div v-else-if="pipeHz !== null">pitch pipe</div>
    </div>
  </template>
</template>

<style scoped>
.line {
  position: absolute;
  left: 0;
  right: 0;
  height: 1px;
  background: var(--ink);
  pointer-events: none;
}
.line.lifting {
  background: var(--ochre);
  height: 2px;
  margin-top: -1px;
}
.readout {
  position: absolute;
  right: 270px;
  transform: translateY(calc(-100% - 3px));
  padding: 2px 7px;
  background: var(--paper-raised);
  border: 1px solid var(--ink-soft);
  pointer-events: none;
  white-space: nowrap;
  line-height: 1.3;
}
.readout.below {
  transform: translateY(4px);
}
.readout.lifting {
  border: 2px solid var(--ochre);
}
</style>
