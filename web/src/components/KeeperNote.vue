<script setup lang="ts">
/** A keeper in the margin: a region that is wanted as it is. */
import type { Keeper } from '../api/client'
import { formatHz } from '../lib/figures'

defineProps<{ keeper: Keeper }>()
const emit = defineEmits<{ remove: [] }>()
</script>

<template>
  <article class="keeper" data-test="keeper">
    <span class="figures where"
      ><span class="soft">kept</span> {{ formatHz(keeper.low_hz) }} – {{ formatHz(keeper.high_hz) }}</span
    >
    <button
      class="plain"
      title="No longer keep it"
      :aria-label="`No longer keep ${formatHz(keeper.low_hz)} to ${formatHz(keeper.high_hz)}`"
      @click="emit('remove')">
      ×
    </button>
  </article>
</template>

<style scoped>
.keeper {
  --edge: 3px double var(--ink);
  display: flex;
  align-items: center;
}
.keeper .where {
  flex: 1;
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}
</style>
