<script setup lang="ts">
/** Sound of tracks that were removed or replaced: kept for undo, and deleted for good where nobody wants it back. */
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { api, type Storage } from '../api/client'
import { queries } from '../api/reads'
import { formatBytes } from '../lib/figures'
import DeleteButton from './DeleteButton.vue'

const props = defineProps<{ sessionId: string; revision: number }>()
const emit = defineEmits<{ deleted: [] }>()
const storage = useQuery(
  computed(() => ({
    queryKey: ['storage', props.sessionId, props.revision],
    queryFn: () => api.storage(props.sessionId),
    shallow: true,
  })),
  queries,
)
const unused = computed<Storage['unused']>(() => storage.data.value?.unused ?? [])

async function remove(audioId: string) {
  await api.deleteAudio(props.sessionId, audioId)
  await storage.refetch()
  emit('deleted')
}
</script>

<template>
  <section v-if="unused.length" class="unused" aria-label="Sound of no track" data-test="unused-sound">
    <h2>Sound of no track</h2>
    <p class="soft">Of tracks that were removed or replaced. Undo needs it; deleted, undo goes no further back.</p>
    <p v-for="one in unused" :key="one.audio.id">
      {{ one.audio.original_name }} <span class="figures soft">{{ formatBytes(one.bytes) }}</span>
      <DeleteButton :what="one.audio.original_name" :bytes="() => one.bytes" :remove="() => remove(one.audio.id)" />
    </p>
  </section>
</template>

<style scoped>
.unused {
  margin-top: 18px;
}
h2 {
  font-size: 0.9375rem;
  margin: 0 0 4px;
}
p {
  margin: 0 0 4px;
}
</style>
