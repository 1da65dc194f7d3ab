<script setup lang="ts">
/** Output level just now: the bar is momentary loudness, the tick the peak. */
const props = defineProps<{ peakDb: number | null; loudnessLufs: number | null }>()
const LOWEST = -60
const part = (db: number | null) =>
  `${db === null ? 0 : (100 * (Math.min(Math.max(db, LOWEST), 0) - LOWEST)) / -LOWEST}%`
const levelText = () =>
  `Output: ${props.loudnessLufs?.toFixed(1) ?? 'no'} LUFS momentary, peak ${props.peakDb?.toFixed(1) ?? 'none'} dB`
</script>

<template>
  <div
    class="meter"
    role="meter"
    aria-label="Output level"
    aria-valuemin="-60"
    aria-valuemax="0"
    :aria-valuenow="loudnessLufs ?? -60"
    :title="levelText()">
    <div class="bar">
      <div class="loud" :style="{ width: part(loudnessLufs) }"></div>
      <div v-if="peakDb !== null" class="peak" :style="{ left: part(peakDb) }"></div>
    </div>
    <span class="figures">{{ peakDb === null ? '–' : peakDb.toFixed(1).replace('-', '−') }} dB</span>
  </div>
</template>

<style scoped>
.meter {
  display: flex;
  align-items: center;
  gap: 6px;
  white-space: nowrap;
}
.bar {
  position: relative;
  width: 74px;
  height: 10px;
  border: 1px solid var(--ink-soft);
}
.loud {
  height: 100%;
  background: var(--ink);
}
.peak {
  position: absolute;
  top: -2px;
  bottom: -2px;
  width: 2px;
  background: var(--ink);
}
.figures {
  width: 62px;
  text-align: right;
}
</style>
