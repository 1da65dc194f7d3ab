<script setup lang="ts">
/** Draft many shallow cuts at what belongs to no note played; hear them, then take or leave them. */
import { onBeforeUnmount } from 'vue'
import { useSurvey } from '../composables/useSurvey'
import FigureInput from './FigureInput.vue'

const { draft, amount, surveying, problem, hearing, survey, setAmount, hear, accept, discard } = useSurvey()
const HEAR = [['with', 'with them'], ['offcuts', 'offcuts']] as const
onBeforeUnmount(() => hear(null))
</script>

<template>
  <div class="survey">
    <button class="plain boxed" data-test="survey" :disabled="surveying" title="Listen to the loop, or to ten seconds, and draft many shallow cuts at what belongs to no note played" @click="survey">survey</button>
    <span v-if="problem" class="problem">{{ problem }}</span>
    <span v-else-if="surveying" class="soft">listening …</span>
    <span v-else-if="draft" class="soft" data-test="drafted">{{ draft.length ? `${draft.length} shallow cuts` : 'nothing that belongs to no note' }}</span>
    <span v-else class="soft">drafts shallow cuts off the notes</span>
    <template v-if="draft?.length">
      <FigureInput bare label="Amount of the survey" unit="%" :value="amount" :minimum="0" :maximum="100" @commit="setAmount($event ?? 60)" />
      <button v-for="[how, label] in HEAR" :key="how" class="plain boxed" :aria-pressed="hearing === how" title="Hold to hear it" @pointerdown.prevent="hear(how)" @pointerup="hear(null)"
        @pointerleave="hear(null)" @keydown.space.prevent="hear(how)" @keyup.space="hear(null)">{{ label }}</button>
      <button class="plain boxed take" data-test="accept-survey" @click="accept">take</button>
    </template>
    <button v-if="draft" class="plain" aria-label="Leave the survey" title="Leave it" @click="discard">×</button>
  </div>
</template>

<style scoped>
.survey { display: flex; flex-wrap: wrap; align-items: center; gap: 3px 6px; padding: 4px 6px 3px 24px; border-bottom: 1px solid var(--line); font-size: 12.5px; }
.survey :deep(.figure.bare), .survey :deep(.figure.bare input) { width: 58px; grid-template-columns: 58px; }
.plain { font-size: 12.5px; padding: 1px 5px; }
.take { color: var(--green); font-weight: 700; }
.problem { color: var(--vermilion); }
</style>
