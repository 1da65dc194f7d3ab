<script setup lang="ts">
/** The places that a move has learned, each to be taken out or kept; and from what it is to learn. */
import { computed } from 'vue'
import { formatHz } from '../lib/figures'
import { runsOf, type Place, type Run } from '../lib/places'

const props = defineProps<{ title: string; help: string; places: readonly Place[] }>()
const emit = defineEmits<{ remove: [run: Run]; keep: [run: Run] }>()
const runs = computed(() => runsOf(props.places))
</script>

<template>
  <div v-if="places.length" class="places" role="group" :aria-label="title" :title="help">
    <span class="soft">{{ title }}</span>
    <p v-if="!runs.length" class="soft" data-test="no-places">it listened: no place adds anything</p>
    <ul v-else>
      <li v-for="run in runs" :key="run.lowHz" data-test="place">
        <span class="figures">{{ formatHz(run.topHz) }}</span>
        <span class="figures adds">+{{ run.topDb.toFixed(1) }} dB</span>
        <button
          class="plain"
          :aria-label="`Keep ${formatHz(run.topHz)}`"
          title="It is wanted"
          @click="emit('keep', run)">
          keep
        </button>
        <button
          class="plain"
          :aria-label="`Take ${formatHz(run.topHz)} out`"
          title="Take it out"
          @click="emit('remove', run)">
          ×
        </button>
      </li>
    </ul>
  </div>
</template>

<style scoped>
.places {
  font-size: 0.7812rem;
}
ul,
p {
  margin: 0;
  padding: 0;
}
ul {
  list-style: none;
  max-height: 112px;
  overflow-y: auto;
}
li {
  display: flex;
  gap: 6px;
  align-items: baseline;
  white-space: nowrap;
}
.adds {
  margin-left: auto;
  color: var(--green);
}
.plain {
  padding: 0 2px;
  font-size: 0.75rem;
}
</style>
