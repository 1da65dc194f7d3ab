<script setup lang="ts">
/**
 * One clash; the chosen one unfolds: what it is, how it sounds, who goes first, how the other gives way, and the
 * proof.
 */
import { computed } from 'vue'
import type { ClashView } from '../api/client'
import { tickHz, unbroken } from '../lib/figures'
import HoldButton from '../components/HoldButton.vue'
import { useEnsemble } from '../composables/work'
import ClashDraft from './ClashDraft.vue'
import ClashProof from './ClashProof.vue'

const props = defineProps<{ clash: ClashView }>()
const emit = defineEmits<{ bench: [stripId: string, entryId: string | null] }>()
const { view, clashId, nameOf, choose, hearSlice, letGo, loopWorst, decide } = useEnsemble()
const open = computed(() => props.clash.id === clashId.value)
const hidden = computed(() => nameOf(props.clash.hidden))
const region = computed(() => `${tickHz(props.clash.low_hz)} to ${tickHz(props.clash.high_hz)} Hz`)
const answered = computed(() => props.clash.entry !== null)
const proof = computed(() => view.value?.proofs?.find((one) => one.entry_id === props.clash.entry?.[1]) ?? null)

/** Hear the region of the clash, of these tracks only. */
function hear(...ids: string[]) {
  const { centre_hz: centreHz, low_hz: lowHz, high_hz: highHz, worst } = props.clash
  hearSlice(ids, centreHz, Math.log2(highHz / lowHz), worst?.[0] ?? null)
}
</script>

<template>
  <article class="clash" :class="{ open, answered }" data-test="clash" :data-hidden="hidden" :data-by="clash.by_name">
    <button class="title" :aria-expanded="open" :title="clash.sentence" @click="choose(clash.id)">
      <span class="who"
        ><strong>{{ hidden }}</strong> <span class="soft">hidden by</span> {{ clash.by_name }}</span
      >
      <span class="row2"
        ><span class="figures">{{ region }}</span
        ><span class="weight" :class="clash.weight">{{
          answered ? (proof?.verdict ?? 'measuring') : clash.first === null ? 'both stay' : clash.weight
        }}</span></span
      >
    </button>
    <template v-if="open">
      <p class="sentence first-up" data-test="sentence">{{ unbroken(`${clash.sentence}. ${clash.can_be_won}`) }}</p>
      <div class="line">
        <span class="soft">hold to hear</span>
        <HoldButton data-test="hear-hidden" @hold="hear(clash.hidden)" @release="letGo">{{ hidden }}</HoldButton>
        <template v-if="clash.by">
          <HoldButton data-test="hear-by" @hold="hear(clash.by)" @release="letGo">{{ clash.by_name }}</HoldButton>
          <HoldButton data-test="hear-both" @hold="hear(clash.hidden, clash.by)" @release="letGo">both</HoldButton>
        </template>
        <span class="soft">there</span>
      </div>
      <div class="line">
        <button
          class="plain boxed"
          data-test="loop-worst"
          :disabled="!clash.worst"
          title="Set the loop where it is worst, and play"
          @click="loopWorst">
          loop where it is worst
        </button>
      </div>
      <template v-if="clash.by && !clash.same_sound">
        <fieldset>
          <legend>Who goes first here?</legend>
          <label v-for="id in [clash.hidden, clash.by]" :key="id"
            ><input
              type="radio"
              :name="`first-${clash.id}`"
              :checked="clash.first === id"
              :disabled="answered"
              data-test="first"
              @change="decide(id)" />
            {{ nameOf(id) }}</label
          >
          <label
            ><input
              type="radio"
              :name="`first-${clash.id}`"
              :checked="clash.first === null"
              :disabled="answered"
              data-test="both-stay"
              @change="decide(null)" />
            both stay</label
          >
        </fieldset>
        <ClashProof v-if="clash.entry" :proof="proof" @bench="emit('bench', ...clash.entry)" />
        <ClashDraft v-else-if="clash.first !== null" :clash="clash" />
      </template>
      <p v-else-if="!clash.by" class="soft sentence">
        Many tracks together do this: no single one can decide it. Thin out several, or raise {{ hidden }}.
      </p>
    </template>
  </article>
</template>

<style scoped>
.clash {
  border-bottom: 1px solid var(--line);
  padding: 3px 10px 3px 12px;
  position: relative;
}
.clash::before {
  content: '';
  position: absolute;
  left: 0;
  top: 5px;
  bottom: 5px;
  width: 5px;
  background: repeating-linear-gradient(135deg, var(--slate) 0 2px, transparent 2px 5px);
}
.answered::before {
  background: var(--green);
}
.open {
  background: var(--paper-raised);
  padding-bottom: 8px;
}
.title {
  width: 100%;
  display: block;
  border: 0;
  padding: 2px 0;
  background: none;
  color: inherit;
  font: inherit;
  text-align: left;
  cursor: pointer;
}
.who {
  display: block;
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}
.row2 {
  display: flex;
  justify-content: space-between;
  font-size: 0.8125rem;
}
.weight {
  color: var(--slate);
}
.weight.strong {
  font-weight: 700;
}
.open :deep(.sentence) {
  margin: 3px 0;
  line-height: 1.3;
  font-size: 0.8438rem;
}
.open :deep(.figures.sentence) {
  font-size: 0.75rem;
}
.open :deep(.line) {
  display: flex;
  gap: 5px;
  align-items: center;
  flex-wrap: wrap;
  margin: 4px 0;
  font-size: 0.8125rem;
}
.open :deep(.line .plain) {
  font-size: 0.8125rem;
  padding: 1px 6px;
}
fieldset {
  border: 1px solid var(--line);
  margin: 5px 0;
  padding: 2px 8px 4px;
  font-size: 0.8125rem;
  display: flex;
  gap: 10px;
  flex-wrap: wrap;
}
legend {
  padding: 0 4px;
  color: var(--ink-soft);
}
.first-up::first-letter {
  text-transform: uppercase;
}
label {
  cursor: pointer;
}
</style>
