<script setup lang="ts">
/** Draft many shallow cuts at what stands out whatever is played; hear them, then take or leave them. */
import { useSurvey } from '../composables/work'
import { onBeforeUnmount } from 'vue'
import FigureInput from '../components/FigureInput.vue'
import HoldButton from '../components/HoldButton.vue'

const {
  drafts,
  taken,
  amount,
  limits,
  setLimits,
  listens,
  listen,
  surveyAll,
  surveying,
  problem,
  hearing,
  survey,
  setAmount,
  hear,
  accept,
  acceptAsPlane,
  discard,
} = useSurvey()
const HEAR = [
  ['with', 'with them'],
  ['offcuts', 'offcuts'],
] as const
const countText = (on: number, all: number) => `${on < all ? `${on} of ` : ''}${all} shallow cut${all === 1 ? '' : 's'}`
onBeforeUnmount(() => void hear(null))
</script>

<template>
  <div class="survey">
    <button
      class="plain boxed"
      data-test="survey"
      :disabled="surveying"
      title="Listen to the loop, or to ten seconds, and draft shallow cuts at places that lift whatever passes them"
      @click="survey">
      survey
    </button>
    <button
      class="plain boxed"
      data-test="survey-listen"
      :aria-pressed="listens"
      :title="listens ? 'Stop listening and draft from what was heard' : 'Play, and listen until you stop it'"
      @click="listen">
      {{ listens ? 'stop' : 'until I stop' }}
    </button>
    <button class="plain boxed" title="The whole song" :disabled="surveying" @click="surveyAll">all</button>
    <span v-if="problem" class="problem">{{ problem }}</span>
    <span v-else-if="surveying" class="soft">listening …</span>
    <span v-else-if="drafts" class="soft" data-test="drafted">{{
      drafts.length ? countText(taken.length, drafts.length) : 'nothing stands out'
    }}</span>
    <span v-else class="soft">many shallow cuts</span>
    <template v-if="drafts || listens">
      <span class="limits"
        ><span class="soft">from</span>
        <FigureInput
          bare
          label="Survey from"
          unit="Hz"
          :value="limits.lowHz"
          :minimum="20"
          :maximum="limits.highHz / 2"
          @commit="setLimits({ lowHz: $event ?? 150 })" />
        <span class="soft">to</span>
        <FigureInput
          bare
          label="Survey to"
          unit="Hz"
          :value="limits.highHz"
          :minimum="limits.lowHz * 2"
          :maximum="20000"
          @commit="setLimits({ highHz: $event ?? 10000 })"
      /></span>
      <FigureInput
        bare
        label="Most cuts of the survey"
        unit="cuts"
        :value="limits.most"
        :minimum="1"
        :maximum="100"
        @commit="setLimits({ most: Math.round($event ?? 24) })" />
    </template>
    <template v-if="drafts?.length">
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
      <button
        class="plain boxed take"
        data-test="accept-survey"
        title="Into the ledger as ordinary moves"
        @click="accept">
        take
      </button>
      <button
        class="plain boxed"
        data-test="accept-plane"
        title="Into the ledger as one move that does the same only while something stands there"
        @click="acceptAsPlane">
        as a plane
      </button>
    </template>
    <button v-if="drafts" class="plain" aria-label="Leave the survey" title="Leave it" @click="discard">×</button>
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
  font-size: 0.7812rem;
}
.survey :deep(.figure.bare),
.survey :deep(.figure.bare input) {
  width: 68px;
  grid-template-columns: 68px;
}
.plain {
  font-size: 0.7812rem;
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
