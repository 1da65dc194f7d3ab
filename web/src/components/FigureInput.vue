<script setup lang="ts">
/** One figure: typed with its unit, stepped with the arrow keys (finer with shift). */
import { ref, watch } from 'vue'
import { formatFigure, parseFigure, qToOctaves, stepFigure } from '../lib/figures'

const props = defineProps<{
  label: string
  unit: string
  value: number | null
  minimum: number
  maximum: number
  bare?: boolean
  optional?: boolean
  /** What it stands for where it is left out. */
  empty?: string
}>()
const emit = defineEmits<{ commit: [value: number | null] }>()
const EXAMPLES: Record<string, string> = {
  Hz: 'such as 3.5k, F#5 or 740 Hz',
  Q: 'such as 12 or 0.1 oct',
  dB: 'such as −6 dB',
  pan: 'such as 30 left',
  s: 'such as 1.25 s',
}
const text = ref('')
const wrong = ref('')

const asText = () => (props.value === null ? '' : formatFigure(props.unit, props.value))
watch(
  () => [props.value, props.unit] as const,
  () => (text.value = asText()),
  { immediate: true },
)

function take() {
  if (props.optional && !text.value.trim()) {
    wrong.value = ''
    if (props.value !== null) emit('commit', null)
    return
  }
  const value = parseFigure(props.unit, text.value)
  if (value === null) wrong.value = EXAMPLES[props.unit] ?? 'a number'
  else if (value < props.minimum || value > props.maximum)
    wrong.value = `${formatFigure(props.unit, props.minimum)} to ${formatFigure(props.unit, props.maximum)}`
  else {
    wrong.value = ''
    // What was only shown rounded and left as it stood is not a change.
    if (text.value !== asText()) emit('commit', value)
    text.value = asText()
  }
}

function step(direction: 1 | -1, event: KeyboardEvent) {
  wrong.value = ''
  if (props.value === null) return
  const next = stepFigure(props.unit, props.value, direction, event.shiftKey)
  emit('commit', Math.min(Math.max(next, props.minimum), props.maximum))
}
</script>

<template>
  <label class="figure" :class="{ wrong, bare }">
    <span v-if="!bare" class="soft">{{ label }}</span>
    <input
      v-model="text"
      class="figures"
      :aria-label="label"
      :aria-invalid="!!wrong"
      :placeholder="optional ? empty : ''"
      spellcheck="false"
      @change="take"
      @keydown.enter="take"
      @focus="($event.target as HTMLInputElement).select()"
      @keydown.up.prevent="step(1, $event)"
      @keydown.down.prevent="step(-1, $event)" />
    <span v-if="unit === 'Q' && value !== null && !wrong && !bare" class="figures soft other"
      >{{ qToOctaves(value).toFixed(2) }} oct</span
    >
    <span v-if="wrong" class="message" role="alert">{{ wrong }}</span>
  </label>
</template>

<style scoped>
.figure {
  display: grid;
  grid-template-columns: 4.625rem 5.25rem minmax(0, 1fr);
  align-items: baseline;
  gap: 6px;
}
input {
  width: 5.25rem;
  border: 0;
  border-bottom: 1px solid var(--ink-soft);
  background: transparent;
  color: var(--ink);
  padding: 1px 2px;
}
.bare {
  grid-template-columns: 5.25rem;
}
.bare input {
  width: 5.25rem;
}
.wrong input {
  border-bottom: 2px dashed var(--vermilion);
}
.message {
  font-size: 0.75rem;
  color: var(--vermilion);
}
.other {
  white-space: nowrap;
  font-size: 0.6875rem;
  margin-left: -3px;
}
</style>
