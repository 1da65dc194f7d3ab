<script setup lang="ts">
/** Who of two tracks goes first where: a rule for any region, beside the order, clash or no clash. */
import { computed, ref, watch } from 'vue'
import type { RegionRule } from '../api/client'
import { formatHz } from '../lib/figures'
import FigureInput from './FigureInput.vue'

const props = defineProps<{
  first: { id: string; name: string }
  other: { id: string; name: string }
  rules: readonly RegionRule[]
  suggested: { low_hz: number; high_hz: number } | null
}>()
const emit = defineEmits<{ set: [rule: RegionRule]; remove: [rule: RegionRule] }>()
const LOWEST_HZ = 20
const HIGHEST_HZ = 20_000
const USUAL = { lowHz: 100, highHz: 400 }
const region = ref(USUAL)
watch(
  () =>
    props.suggested &&
    ([
      Math.round(Math.max(props.suggested.low_hz, LOWEST_HZ)),
      Math.round(Math.min(props.suggested.high_hz, HIGHEST_HZ)),
    ] as const),
  (now, before) => {
    // What was typed stays when the same clash is listened to again.
    if (now && now.join() !== before?.join()) region.value = { lowHz: now[0], highHz: now[1] }
  },
  { immediate: true },
)
const answers = computed(() => [
  { label: props.first.name, first: props.first.id },
  { label: props.other.name, first: props.other.id },
  { label: 'both stay', first: null },
])
const words = (rule: RegionRule) =>
  `${formatHz(rule.low_hz)} to ${formatHz(rule.high_hz)}: ` +
  (rule.first === null ? 'both stay' : `${(rule.first === props.first.id ? props.first : props.other).name} first`)
const edges = computed(() => [region.value.lowHz, region.value.highHz].sort((a, b) => a - b) as [number, number])
const set = (first: string | null) =>
  emit('set', { one: props.first.id, other: props.other.id, low_hz: edges.value[0], high_hz: edges.value[1], first })
</script>

<template>
  <div class="rules" data-test="rules">
    <span class="soft">Going first between</span>
    <FigureInput
      bare
      label="Rule from"
      unit="Hz"
      :value="region.lowHz"
      :minimum="LOWEST_HZ"
      :maximum="HIGHEST_HZ"
      @commit="region = { ...region, lowHz: $event ?? USUAL.lowHz }" />
    <span class="soft">and</span>
    <FigureInput
      bare
      label="Rule to"
      unit="Hz"
      :value="region.highHz"
      :minimum="LOWEST_HZ"
      :maximum="HIGHEST_HZ"
      @commit="region = { ...region, highHz: $event ?? USUAL.highHz }" />
    <button
      v-for="answer in answers"
      :key="answer.label"
      class="plain boxed"
      :disabled="edges[0] === edges[1]"
      @click="set(answer.first)">
      {{ answer.label }}
    </button>
    <span v-for="rule in rules" :key="`${rule.low_hz} ${rule.high_hz}`" class="rule" data-test="rule"
      >{{ words(rule) }}
      <button
        class="plain"
        :aria-label="`Remove the rule ${words(rule)}`"
        title="Remove this rule: the order decides again"
        @click="emit('remove', rule)">
        ✕
      </button></span
    >
  </div>
</template>

<style scoped>
.rules {
  grid-column: 1 / -1;
  display: flex;
  flex-wrap: wrap;
  align-items: baseline;
  gap: 3px 8px;
  padding: 3px 6px;
  border-top: 1px solid var(--ink-soft);
  font-size: 0.7812rem;
  min-width: 0;
  min-height: 0;
  overflow-y: auto;
  align-content: flex-start;
}
.rule {
  border-left: 3px solid var(--slate);
  padding-left: 6px;
  white-space: nowrap;
}
</style>
