<script setup lang="ts">
/** Opens the session of the address; its screens show it. */
import { onBeforeUnmount, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { usePlay } from '../composables/usePlay'
import { useSession } from '../composables/useSession'

const route = useRoute()
const { state, open } = useSession()
const { stop, positionFrame } = usePlay()
const failed = ref('')

watch(() => String(route.params['id'] ?? ''), async (id) => {
  if (!id) return
  failed.value = ''
  if (state.value && state.value.id !== id) {
    stop()
    positionFrame.value = 0
  }
  await open(id).catch((error: Error) => (failed.value = error.message))
}, { immediate: true })
onBeforeUnmount(stop)
</script>

<template>
  <p v-if="failed" class="words" role="alert">This session cannot be opened: {{ failed }} <RouterLink to="/">All sessions</RouterLink></p>
  <p v-else-if="!state" class="words soft">Opening the session</p>
  <RouterView v-else />
</template>

<style scoped>
.words { padding: 40px; }
</style>
