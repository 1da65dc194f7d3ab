<script setup lang="ts">
/** Opens the session of the address, and closes it when it is left; its screens find the work on it from here. */
import { onBeforeUnmount, shallowRef, watch } from 'vue'
import { useRoute } from 'vue-router'
import SessionFrame from '../panels/SessionFrame.vue'
import { openWork, type OpenWork } from '../composables/openWork'
import { showInDebugHandle } from '../debug'

const route = useRoute()
const opened = shallowRef<OpenWork | null>(null)
const failed = shallowRef('')
let wanted = ''

function close() {
  opened.value?.scope.stop()
  opened.value = null
  showInDebugHandle(undefined)
}

watch(
  () => String(route.params['id'] ?? ''),
  async (id) => {
    if (!id || id === wanted) return
    wanted = id
    failed.value = ''
    close()
    try {
      const next = await openWork(id)
      if (wanted === id) opened.value = next
      else next.scope.stop()
    } catch (error) {
      failed.value = (error as Error).message
    }
  },
  { immediate: true },
)
onBeforeUnmount(() => {
  wanted = ''
  close()
})
</script>

<template>
  <p v-if="failed" class="words" role="alert">
    This session cannot be opened: {{ failed }} <RouterLink to="/">All sessions</RouterLink>
  </p>
  <p v-else-if="!opened" class="words soft">Opening the session</p>
  <SessionFrame v-else :key="opened.work.session.id" :work="opened.work" />
</template>

<style scoped>
.words {
  padding: 40px;
}
</style>
