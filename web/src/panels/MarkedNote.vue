<script setup lang="ts">
/** The note whose overtones are marked along the axis: hear it, or make one move of it. */
import { computed } from 'vue'
import HoldButton from '../components/HoldButton.vue'
import { useBench, useEdits } from '../composables/work'
import { yOfHz } from '../lib/axis'
import { formatHz, noteOfHz } from '../lib/figures'

const { markedHz, frequency, laneSize, pipe } = useBench()
const { addFamily } = useEdits()
const markedText = computed(() => {
  if (markedHz.value === null) return ''
  const { name, cents } = noteOfHz(markedHz.value)
  return cents === 0 ? name : `${formatHz(markedHz.value)}, ${name} ${cents > 0 ? '+' : '−'}${Math.abs(cents)} ct,`
})
</script>

<template>
  <div v-if="markedHz !== null" class="marked" :style="{ top: `${yOfHz(markedHz, frequency, laneSize.height)}px` }">
    {{ markedText }} and its overtones
    <HoldButton
      data-test="pipe"
      title="Hold to hear it as a soft tone (I does the same at the pointer)"
      @click.stop
      @hold="pipe(true, markedHz)"
      @release="pipe(false)"
      >pitch pipe</HoldButton
    >
    <button
      class="plain boxed"
      data-test="family"
      title="One move for the note and its overtones"
      @click.stop="addFamily(markedHz)">
      note family
    </button>
    <button class="plain" aria-label="No longer mark them" @click.stop="markedHz = null">×</button>
  </div>
</template>

<style scoped>
.marked {
  position: absolute;
  left: 62px;
  transform: translateY(-50%);
  background: var(--paper-raised);
  border: 1px solid var(--ink-soft);
  padding: 1px 6px;
  font-size: 0.7812rem;
  z-index: 2;
  white-space: nowrap;
}
.marked .plain {
  font-size: 0.7812rem;
  padding: 0 5px;
}
</style>
