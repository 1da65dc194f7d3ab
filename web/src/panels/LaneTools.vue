<script setup lang="ts">
/** What the lanes show: small switches in the corner of each, out of the way of the pointer. */
import { usePlay, useSession, useViews } from '../composables/work'
import { computed, ref } from 'vue'
import OneOf from '../components/OneOf.vue'
import { parseHz } from '../lib/figures'
import { SMOOTHINGS, smoothing } from '../composables/smoothing'

const props = defineProps<{
  of: 'spectrogram' | 'spectrum'
  hasMoves: boolean
  others: { id: string; name: string }[]
}>()
const emit = defineEmits<{ note: [hz: number] }>()
const { picture, pitchShown, pitch, placesShown, placeCurve, behindId, holding, frozen, waits } = useViews()
const { heldProbes } = usePlay()
const { state } = useSession()
const PICTURES = [
  { is: 'before', title: 'As it came' },
  { is: 'after', title: 'Behind its moves' },
  { is: 'difference', title: 'What the moves take away in green, what they add in ink' },
] as const
const pictures = computed(() =>
  PICTURES.map((one) => ({ ...one, label: `${one.is}${waits.value && picture.value === one.is ? ' …' : ''}` })),
)
const pitchText = computed(() => {
  if (!pitchShown.value) return 'pitch line'
  if (!pitch.value) return 'pitch line …'
  return pitch.value.one_voice ? 'pitch line' : 'no one voice here'
})
/** What the curves are: a sample of each line, with its words. */
const CURVES = [
  { draw: 'M0 6 H26', how: 'average', words: 'average over the passage' },
  { draw: 'M0 6 H26', how: 'hair', words: 'highest' },
  { draw: 'M0 1 H26 V11 H0 Z', how: 'range', words: 'between there 95 % of the time and there 5 % of it' },
  { draw: 'M0 6 H26', how: 'dots', words: 'near outline: lines stand out of it' },
  { draw: 'M0 6 H26', how: 'dashes', words: 'far outline: humps stand out of it' },
  { draw: 'M0 1 H26 V11 H0 Z', how: 'taken', words: 'what the moves take away' },
  { draw: 'M0 9 C8 9 8 2 13 2 C18 2 18 9 26 9', how: 'curve', words: 'what each place does, over its own zero line' },
  { draw: 'M0 6 H26', how: 'drafted', words: 'a drafted cut' },
  { draw: 'M20 1 H12 V11 H20', how: 'suspect', words: 'a suspect' },
] as const
const keyShown = ref(false)
const typed = ref('')
const wrong = ref(false)
function markTyped() {
  const hz = parseHz(typed.value)
  wrong.value = typed.value.trim() !== '' && (hz === null || hz < 20 || hz > 20_000)
  if (hz !== null && !wrong.value) emit('note', hz)
}
const behinds = computed(() => [
  ...props.others,
  ...(state.value.references ?? []).map(({ id, name }) => ({ id, name: `${name} (reference)` })),
])
const behindText = computed(
  () =>
    'Another track, the mix or a reference, behind it in slate; now ' +
    (behinds.value.find((other) => other.id === behindId.value)?.name ?? 'none'),
)
</script>

<template>
  <div class="tools" @pointerdown.stop @click.stop @dblclick.stop>
    <template v-if="of === 'spectrogram'">
      <OneOf v-if="hasMoves" v-model="picture" label="Spectrogram of" :choices="pictures" />
      <button
        class="plain"
        :aria-pressed="pitchShown"
        title="The pitch of a track with one voice: what does not follow it is no part of the notes"
        @click="pitchShown = !pitchShown">
        {{ pitchText }}
      </button>
      <form @submit.prevent="markTyped">
        <input
          v-model="typed"
          class="figures"
          data-test="typed-note"
          aria-label="Note or frequency"
          placeholder="A3, 220 Hz"
          maxlength="20"
          :aria-invalid="wrong"
          :title="
            wrong
              ? 'A note such as A3 or Bb2 +20, or a frequency from 20 Hz to 20 kHz'
              : 'Mark a note or a frequency with its overtones: type it, then Enter'
          "
          @input="wrong = false" />
      </form>
    </template>
    <template v-else>
      <button
        class="plain"
        :aria-pressed="holding"
        title="Keep the highest live level of every frequency"
        @click="holding = !holding">
        hold peaks
      </button>
      <button
        class="plain"
        :aria-pressed="frozen"
        title="Let the live spectrum stand as it is"
        @click="frozen = !frozen">
        freeze
      </button>
      <button
        class="plain"
        data-test="places"
        :aria-pressed="placesShown"
        title="What each place does to whatever passes it, apart from what is played; pale where that is not sure"
        @click="placesShown = !placesShown">
        {{ placesShown && !placeCurve ? 'places …' : 'places' }}
      </button>
      <select
        v-model="smoothing"
        data-test="smoothing"
        aria-label="Smoothing of the curves"
        title="How smooth the curves are drawn; what stands out is told of them as measured">
        <option v-for="one in SMOOTHINGS" :key="one.value" :value="one.value">{{ one.label }}</option>
      </select>
      <select v-model="behindId" aria-label="Behind it" :title="behindText">
        <option value="">nothing behind</option>
        <option v-for="other in behinds" :key="other.id" :value="other.id">behind: {{ other.name }}</option>
      </select>
      <button
        class="plain"
        data-test="curves"
        :aria-pressed="keyShown"
        title="What the lines mean"
        @click="keyShown = !keyShown">
        ?
      </button>
      <button v-if="heldProbes.length" class="plain held" title="Let go of them (Escape)" @click="heldProbes = []">
        {{ heldProbes.length }} held ×
      </button>
      <ul v-if="keyShown" class="key">
        <li v-for="curve in CURVES" :key="curve.how">
          <svg width="26" height="12" aria-hidden="true"><path :d="curve.draw" :class="curve.how" /></svg
          >{{ curve.words }}
        </li>
      </ul>
    </template>
  </div>
</template>

<style scoped>
.tools {
  position: absolute;
  top: 2px;
  left: 3px;
  display: flex;
  flex-wrap: wrap;
  gap: 2px;
  font-size: 0.75rem;
  line-height: 1.2;
  cursor: default;
  z-index: 1;
}
.tools :deep(.plain),
.tools select {
  font: inherit;
  padding: 1px 4px;
  background: var(--paper);
  border: 1px solid var(--line);
  color: var(--ink);
}
.tools :deep(.plain[aria-pressed='true']) {
  background: var(--ink);
  color: var(--paper);
}
.tools input {
  width: 5.125rem;
  font-size: 0.7188rem;
  line-height: 1.2;
  padding: 1px 4px;
  color: var(--ink);
  background: var(--paper);
  border: 1px solid var(--line);
  border-radius: 2px;
}
.tools input[aria-invalid='true'] {
  border: 1.5px dashed var(--vermilion);
}
.tools select {
  width: 7rem;
  border-radius: 2px;
  text-overflow: ellipsis;
}
.key {
  flex-basis: 100%;
  margin: 2px 0 0;
  padding: 5px 7px;
  list-style: none;
  background: var(--paper-raised);
  border: 1px solid var(--line);
  line-height: 1.45;
}
.key li {
  display: flex;
  gap: 8px;
  align-items: center;
}
.key svg {
  flex: none;
}
.key path {
  fill: none;
  stroke: var(--ink);
  stroke-width: 1.4;
}
.key .hair {
  stroke-width: 0.7;
  opacity: 0.5;
}
.key .range {
  fill: var(--ink);
  stroke: none;
  opacity: 0.12;
}
.key .dots {
  stroke: var(--ink-soft);
  stroke-dasharray: 2 3;
}
.key .dashes {
  stroke: var(--ink-soft);
  stroke-dasharray: 9 5;
}
.key .taken {
  fill: var(--green);
  stroke: none;
  opacity: 0.6;
}
.key .curve {
  stroke: var(--slate);
  stroke-width: 2;
}
.key .drafted {
  stroke: var(--green);
  stroke-width: 2;
  stroke-dasharray: 4 3;
}
.key .suspect {
  stroke: var(--vermilion);
  stroke-width: 2;
}
.tools .held {
  color: var(--ochre);
  font-weight: 700;
}
</style>
