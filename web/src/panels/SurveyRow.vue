<script setup lang="ts">
/** Draft many shallow cuts at what belongs to no note played; hear them, then take or leave them. */
import { useSurvey } from '../composables/work'
import { onBeforeUnmount } from 'vue'
import FigureInput from '../components/FigureInput.vue'
import HoldButton from '../components/HoldButton.vue'

const {
  draft,
  amount,
  limits,
  setLimits,
  listeningFrom,
  listen,
  surveyAll,
  surveying,
  problem,
  hearing,
  survey,
  setAmount,
  hear,
  accept,
  discard,
} = useSurvey()
const HEAR = [
  ['with', 'with them'],
  ['offcuts', 'offcuts'],
] as const
onBeforeUnmount(() => void hear(null))
</script>

<template>
  <div class="survey">
    <button
      class="plain boxed"
      data-test="survey"
      :disabled="surveying"
      title="Listen to the loop, or to ten seconds, and draft many shallow cuts at what belongs to no note played"
      @click="survey">
      survey
    </button>
    <button
      class="plain boxed"
      data-test="survey-listen"
      :aria-pressed="listeningFrom !== null"
      :title="listeningFrom ? 'Stop listening and draft from what was heard' : 'Play, and listen until you stop it'"
      @click="listen">
      {{ listeningFrom ? 'stop' : 'until I stop' }}
    </button>
    <button class="plain boxed" title="The whole song" :disabled="surveying" @click="surveyAll">all</button>
    <span v-if="problem" class="problem">{{ problem }}</span>
    <span v-else-if="surveying" class="soft">listening …</span>
    <span v-else-if="draft" class="soft" data-test="drafted">{{
      draft.length ? `${draft.length} shallow cut${draft.length === 1 ? '' : 's'}` : 'nothing that belongs to no note'
    }}</span>
    <span v-else class="soft">shallow cuts off the notes</span>
    <span v-if="draft || listeningFrom" class="limits"
      ><span class="soft">from</span>
      <FigureInput
        bare
        label="Survey from"
        unit="Hz"
        :value="limits.lowHz"
        :minimum="20"
        :maximum="limits.highHz / 2"
        @commit="setLimits($event ?? 150, limits.highHz)" />
      <span class="soft">to</span>
      <FigureInput
        bare
        label="Survey to"
        unit="Hz"
        :value="limits.highHz"
        :minimum="limits.lowHz * 2"
        :maximum="20000"
        @commit="setLimits(limits.lowHz, $event ?? 10000)"
    /></span>
    <template v-if="draft?.length">
      <FigureInput
        bare
        label="Amount of the survey"
        unit="%"
        :value="amount"
        :minimum="0"
        :maximum="100"
        @commit="setAmount($event ?? 60)" />
      <HoldButton
        v-for="[how, label] in HEAR"
        :key="how"
        :aria-pressed="hearing === how"
        title="Hold to hear it"
        @hold="hear(how)"
        @release="hear(null)"
        >{{ label }}</HoldButton
      >
      <button class="plain boxed take" data-test="accept-survey" @click="accept">take</button>
    </template>
    <button v-if="draft" class="plain" aria-label="Leave the survey" title="Leave it" @click="discard">×</button>
  </div>
</template>

<style scoped>
.survey {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 3px 6px;
  padding: 4px 6px 3px 24px;
  border-bottom: 1px solid var(--line);
  font-size: 12.5px;
}
.survey :deep(.figure.bare),
.survey :deep(.figure.bare input) {
  width: 68px;
  grid-template-columns: 68px;
}
.plain {
  font-size: 12.5px;
  padding: 1px 5px;
}
.limits {
  display: inline-flex;
  gap: 4px;
  align-items: center;
}
.take {
  color: var(--green);
  font-weight: 700;
}
.problem {
  color: var(--vermilion);
}
</style>
