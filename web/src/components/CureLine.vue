<script setup lang="ts">
/** What became of the suspect that a move answers, measured again on the treated sound. */
import { computed } from 'vue'
import type { Cure, LedgerEntry, Move } from '../api/client'

const props = defineProps<{
  evidence: NonNullable<LedgerEntry['evidence']>
  cure: Cure | null
  back?: { sentence: string; comes_back: boolean } | null
}>()
const emit = defineEmits<{ deeper: [move: Move] }>()
const words = computed(() => {
  const cure = props.cure
  if (!cure) return 'measuring what became of it'
  const level = `${cure.excess_before_db.toFixed(1)} → ${cure.excess_after_db.toFixed(1)} dB out`
  const ring =
    cure.ring_before_s !== null && cure.ring_after_s !== null
      ? `, rings ${cure.ring_before_s.toFixed(2)} → ${cure.ring_after_s.toFixed(2)} s`
      : ''
  return `${cure.verdict}: ${level}${ring}`
})
</script>

<template>
  <p class="cure" data-test="cure" :class="cure?.verdict.replace(' ', '-')">
    {{ evidence.kind }} {{ words }}
    <button
      v-if="cure?.deeper"
      class="plain boxed"
      data-test="deeper"
      title="Take what is left of it as well, as far as one step goes"
      @click="emit('deeper', cure.deeper)">
      {{ cure.deeper_by_db.toFixed(1) }} dB deeper
    </button>
  </p>
  <p v-if="back" class="cure" data-test="under-pressure" :class="back.comes_back ? 'not-yet' : 'cured'">
    under pressure: {{ back.sentence }}
  </p>
</template>

<style scoped>
.cure {
  margin: 0 0 3px;
  font-size: 0.7812rem;
  line-height: 1.3;
}
.cure button {
  font-size: 0.7812rem;
  padding: 0 5px;
}
.cured {
  color: var(--green);
  font-weight: 700;
}
.not-yet {
  color: var(--vermilion);
}
</style>
