<script setup lang="ts">
/** What a yield has brought: figures, with or without it, alone or in the mix. */
import type { ProofView } from '../api/client'
import ProofLine from '../components/ProofLine.vue'
import { useEnsemble } from '../composables/work'
import { formatDb } from '../lib/figures'

defineProps<{ proof: ProofView | null }>()
const emit = defineEmits<{ bench: [] }>()
const { view, without, alone, matched, matchDb, nameOf, takeBack } = useEnsemble()
</script>

<template>
  <p v-if="!proof" class="soft">Measuring what it has brought …</p>
  <ProofLine
    v-else
    :proof="proof"
    :bands-hz="view?.bands_hz ?? []"
    :front="nameOf(proof.front)"
    :yielding="nameOf(proof.strip_id)" />
  <div class="line">
    <span class="pair" role="group" aria-label="With or without this yield">
      <button class="plain boxed" data-test="yield-without" :aria-pressed="without" @click="without = true">
        without
      </button>
      <button class="plain boxed" data-test="yield-with" :aria-pressed="!without" @click="without = false">with</button>
    </span>
    <span class="pair" role="group" aria-label="Alone or in the mix">
      <button class="plain boxed" :aria-pressed="alone" data-test="pair-alone" @click="alone = true">the two</button>
      <button class="plain boxed" :aria-pressed="!alone" @click="alone = false">the mix</button>
    </span>
    <label class="match"
      ><input type="checkbox" :checked="matched" @change="matched = ($event.target as HTMLInputElement).checked" />
      level-matched <span class="figures">{{ matched ? formatDb(matchDb) : 'off' }}</span></label
    >
  </div>
  <div class="line">
    <button class="plain boxed" data-test="take-back" @click="takeBack">take it back</button>
    <button class="plain" @click="emit('bench')">see the move on the bench</button>
  </div>
</template>

<style scoped>
.pair {
  display: inline-flex;
}
.pair .plain + .plain {
  margin-left: -1px;
}
label {
  cursor: pointer;
}
</style>
