<script setup lang="ts">
/** One of some, chosen from a list; what stands there is what is saved, until that changes. */
const { value, choices } = defineProps<{
  value: string
  label: string
  choices: readonly (readonly [string, string])[]
}>()
const emit = defineEmits<{ pick: [value: string] }>()

function picked(event: Event) {
  const select = event.target as HTMLSelectElement
  const chosen = select.value
  select.value = value
  emit('pick', chosen)
}
</script>

<template>
  <select :value :aria-label="label" @change="picked">
    <option v-for="[is, words] in choices" :key="is" :value="is">{{ words }}</option>
  </select>
</template>
