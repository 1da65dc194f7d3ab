<script setup lang="ts">
/** Which track, group or the mix. */
defineProps<{ strips: readonly { id: string; name: string }[]; label: string }>()
const chosen = defineModel<string>({ required: true })
</script>

<template>
  <select v-model="chosen" :aria-label="label">
    <option v-for="one in strips" :key="one.id" :value="one.id">{{ one.name }}</option>
  </select>
</template>
