<script setup lang="ts">
/** All keys of the screen that is open. */
import { forgetHints } from '../lib/hints'
import { KEYS_EVERYWHERE, KEYS_OF, type Screen } from '../lib/keys'

defineProps<{ screen: Screen }>()
defineEmits<{ close: [] }>()
</script>

<template>
  <section class="keys" role="dialog" aria-label="Keys" data-test="keys" @click="$emit('close')">
    <h2>Keys <button class="plain" @click="$emit('close')">close (?)</button></h2>
    <dl>
      <template v-for="[keys, does] in [...KEYS_OF[screen], ...KEYS_EVERYWHERE]" :key="keys">
        <dt class="figures">{{ keys }}</dt>
        <dd>{{ does }}</dd>
      </template>
    </dl>
    <p><button class="plain again" @click="forgetHints()">tell all hints once more</button></p>
  </section>
</template>

<style scoped>
.keys {
  position: absolute;
  right: 12px;
  top: 50px;
  z-index: 20;
  background: var(--paper-raised);
  border: 1.5px solid var(--ink);
  padding: 6px 16px 12px;
  max-width: 29.375rem;
  max-height: calc(100% - 3.75rem);
  overflow: auto;
}
h2 {
  font-size: 1rem;
  margin: 0 0 6px;
  display: flex;
  justify-content: space-between;
}
dl {
  display: grid;
  grid-template-columns: auto 1fr;
  gap: 3px 16px;
  margin: 0;
}
dd,
p {
  margin: 0;
}
.again {
  text-decoration: underline;
  padding-left: 0;
}
</style>
