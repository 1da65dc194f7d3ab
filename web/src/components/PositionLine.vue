<script setup lang="ts">
/** The play position across a lane. Only this line is drawn anew while it moves. */
import { computed } from 'vue'

const props = defineProps<{ seconds: () => number; startS: number; endS: number }>()
const part = computed(() => (props.seconds() - props.startS) / (props.endS - props.startS))
</script>

<template>
  <div class="track" aria-hidden="true">
    <div v-show="part >= 0 && part <= 1" class="at" :style="{ transform: `translateX(${100 * part}%)` }"></div>
  </div>
</template>

<style scoped>
.track {
  position: absolute;
  inset: 0;
  overflow: hidden;
  pointer-events: none;
}
.at {
  position: absolute;
  inset: 0;
  border-left: 1.5px solid var(--ink);
  opacity: 0.7;
  will-change: transform;
}
</style>
