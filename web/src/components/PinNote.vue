<script setup lang="ts">
/** A pin in the margin: where it is, by how much it stands out, and the answers to it. */
import type { Pin } from '../api/client'
import { formatDb, formatHz, noteOfHz } from '../lib/figures'

defineProps<{ pin: Pin }>()
const emit = defineEmits<{ answer: [how: 'cut' | 'tame']; keep: []; remove: [] }>()
</script>

<template>
  <article class="pin" data-test="pin">
    <span class="figures where"
      >{{ formatHz(pin.hz) }} {{ noteOfHz(pin.hz).name
      }}<small v-if="pin.excess_db != null" class="soft">{{ formatDb(pin.excess_db) }} out</small></span
    >
    <button class="plain boxed" title="Make it a bell that cuts here" @click="emit('answer', 'cut')">cut</button>
    <button
      class="plain boxed"
      title="Make it a bell that cuts here only in the loud moments"
      @click="emit('answer', 'tame')">
      tame
    </button>
    <button class="plain boxed" title="This is wanted: nothing that works by itself may touch it" @click="emit('keep')">
      keep
    </button>
    <button
      class="plain"
      title="Remove the pin"
      :aria-label="`Remove the pin at ${formatHz(pin.hz)}`"
      @click="emit('remove')">
      ×
    </button>
  </article>
</template>

<style scoped>
.pin {
  --edge: 3px dotted var(--ochre);
  display: flex;
  align-items: center;
  gap: 3px;
}
.pin .plain {
  padding: 1px 4px;
  font-size: 0.7812rem;
}
.pin small {
  display: block;
  font-size: 0.6875rem;
  line-height: 11px;
}
</style>
