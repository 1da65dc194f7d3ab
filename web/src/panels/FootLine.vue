<script setup lang="ts">
/** The last line of every screen: the guide's step, or what is to be known of the control that was just reached. */
import { onBeforeUnmount, onMounted, ref } from 'vue'
import { useGuide } from '../composables/work'
import { hintAt } from '../lib/hints'

defineEmits<{ keys: [] }>()
const SHOWN_MS = 15_000
const guide = useGuide()
const { sentence, step, isDone } = guide
const hint = ref('')
let until: ReturnType<typeof setTimeout> | undefined

function reached(event: Event) {
  if (step.value !== null) return // one thing at a time
  const found = hintAt(event.target)
  if (found === null) return
  hint.value = found
  clearTimeout(until)
  until = setTimeout(() => (hint.value = ''), SHOWN_MS)
}
onMounted(() => {
  window.addEventListener('pointerover', reached)
  window.addEventListener('focusin', reached)
})
onBeforeUnmount(() => {
  window.removeEventListener('pointerover', reached)
  window.removeEventListener('focusin', reached)
  clearTimeout(until)
})
</script>

<template>
  <footer class="foot" :class="{ guided: step !== null }">
    <p v-if="step !== null" role="status" data-test="guide">
      <strong class="figures">{{ isDone ? 'Done' : `${step + 1} of ${guide.of}` }}</strong> {{ sentence }}
    </p>
    <p v-else role="status" class="soft" data-test="hint">{{ hint }}</p>
    <button v-if="step !== null" class="plain boxed" data-test="leave-guide" @click="guide.leave()">
      {{ isDone ? 'close' : 'leave' }}
    </button>
    <button class="plain keys" title="All keys of this screen (?)" @click="$emit('keys')">keys</button>
  </footer>
</template>

<style scoped>
.foot {
  display: flex;
  gap: 12px;
  align-items: center;
  min-height: 1.5rem;
  padding: 0 10px;
  border-top: 1px solid var(--line);
  font-size: 0.8125rem;
  line-height: 1.25;
}
.foot p {
  flex: 1;
  min-width: 0;
  margin: 0;
}
.guided {
  padding-block: 5px;
  font-size: 0.9375rem;
  background: var(--paper-raised);
  border-top: 2px solid var(--ochre);
}
.keys {
  text-decoration: underline;
}
</style>
