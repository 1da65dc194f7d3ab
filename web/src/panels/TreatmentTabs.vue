<script setup lang="ts">
/** Letters on tabs of paper: the treatments, where there are several. */
import { usePlay, useSession, useTreatments } from '../composables/work'

const { treatment } = useSession()
const { against } = usePlay()
const { list, several, ready, go } = useTreatments()
</script>

<template>
  <div v-if="several" data-hint="treatment" class="tabs" role="group" aria-label="Treatment">
    <button
      v-for="one in list"
      :key="one.letter"
      class="plain"
      :aria-pressed="one.letter === treatment"
      :title="`Treatment ${one.letter}${one.name ? `, ${one.name}` : ''} (Shift ${one.letter})`"
      :data-test="`treatment-${one.letter}`"
      @click="go(one.letter)">
      {{ one.letter
      }}<span
        v-if="ready && one.letter === against"
        class="mark"
        title="Rendered beside what plays, and equally loud: a switch is heard at once"
        data-test="beside-ready"
        >=</span
      >
    </button>
  </div>
</template>

<style scoped>
.tabs {
  display: flex;
  align-self: end;
  gap: 2px;
}
button {
  min-width: 24px;
  padding: 3px 5px 5px;
  border: 1.5px solid var(--line);
  border-bottom: 0;
  border-radius: 5px 5px 0 0;
  background: var(--paper-sunk);
}
button[aria-pressed='true'] {
  border-color: var(--ink);
  background: var(--paper);
  color: var(--ink);
  font-weight: 700;
  margin-bottom: -1.5px;
  padding-bottom: 6.5px;
}
.mark {
  margin-left: 2px;
  color: var(--green);
  font-weight: 700;
}
</style>
