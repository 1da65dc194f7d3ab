<script setup lang="ts">
/** Deletes something for good, after a second press that says what becomes free. */
import { ref } from 'vue'
import { formatBytes } from '../lib/figures'

const props = defineProps<{ what: string; bytes: () => number | Promise<number>; remove: () => Promise<unknown> }>()
const asking = ref(false)
const size = ref('')
const problem = ref('')

async function ask() {
  problem.value = ''
  asking.value = true
  try {
    size.value = formatBytes(await props.bytes())
  } catch (error) {
    problem.value = (error as Error).message
  }
}

async function go() {
  asking.value = false
  await props.remove().catch((error: Error) => (problem.value = error.message))
}
</script>

<template>
  <span class="delete" @click.stop.prevent>
    <span v-if="problem" class="problem" role="alert">{{ problem }}</span>
    <template v-if="asking">
      <span role="status">{{ size ? `${size} become free, for good:` : '…' }}</span>
      <button class="plain boxed go" :disabled="!size" :aria-label="`Delete ${what} for good`" @click="go">
        delete
      </button>
      <button class="plain" :aria-label="`Keep ${what}`" @click="asking = false">keep</button>
    </template>
    <button v-else class="plain" :aria-label="`Delete ${what}`" @click="ask">delete</button>
  </span>
</template>

<style scoped>
.delete {
  display: inline-flex;
  gap: 6px;
  align-items: baseline;
}
.go,
.problem {
  color: var(--vermilion);
}
</style>
