<script setup lang="ts">
/** Which treatment a screen is about, where there are several. */
import { computed } from 'vue'
import { useSession, useTreatments } from '../composables/work'

const { treatment } = useSession()
const { list, several } = useTreatments()
const name = computed(() => list.value.find((one) => one.letter === treatment.value)?.name ?? '')
</script>

<template>
  <span v-if="several" class="soft of" data-test="of-treatment"
    >treatment {{ treatment }}<bdi v-if="name">, {{ name }}</bdi></span
  >
</template>

<style scoped>
.of {
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}
</style>
