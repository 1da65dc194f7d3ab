<script setup lang="ts">
/** What a yield has brought: figures, with or without it, alone or in the mix. */
import type { ProofView } from '../api/client'
import OneOf from '../components/OneOf.vue'
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
    <OneOf
      v-model="without"
      label="With or without this yield"
      :choices="[
        { is: true, label: 'without', test: 'yield-without' },
        { is: false, label: 'with', test: 'yield-with' },
      ]" />
    <OneOf
      v-model="alone"
      label="Alone or in the mix"
      :choices="[
        { is: true, label: 'the two', test: 'pair-alone' },
        { is: false, label: 'the mix' },
      ]" />
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
label {
  cursor: pointer;
}
</style>
