<script setup lang="ts">
/** Beside the lanes: look for suspects, survey, and the margin with all that stands on the track. */
import { useBench, useEdits, useHunt, useSession } from '../composables/work'
import { computed } from 'vue'
import MarginNotes from './MarginNotes.vue'
import SurveyRow from './SurveyRow.vue'

const { chosen } = useSession()
const { others } = useBench()
const { pickedIds, copyPicked, setPhase } = useEdits()
const { finding, summary, hunt } = useHunt()
const PHASES =
  'Minimum phase: no delay, as hardware does it. Linear phase: the same magnitude, no phase shift; ' +
  'softens before attacks.'
const copyWords = computed(() => (pickedIds.value.size ? `copy ${pickedIds.value.size} picked to` : 'copy all to'))

function changePhase(event: Event) {
  void setPhase((event.target as HTMLSelectElement).value as 'minimum' | 'linear')
}

function copyTo(event: Event) {
  const select = event.target as HTMLSelectElement
  if (select.value) copyPicked(select.value)
  select.value = ''
}
</script>

<template>
  <section v-if="chosen" class="side">
    <div class="head">
      <button
        class="plain boxed find"
        data-test="find"
        :disabled="finding"
        title="Look for what behaves like a fault, in the loop or in the whole song (H)"
        @click="hunt">
        find suspects
      </button>
      <span class="soft summary" data-test="found">{{ summary }}</span>
    </div>
    <div class="head">
      <label
        ><span class="soft">steady moves in</span>
        <select
          class="in-line"
          :value="chosen.phase"
          aria-label="Phase"
          data-test="phase"
          :title="PHASES"
          @change="changePhase">
          <option value="minimum">minimum phase</option>
          <option value="linear">linear phase</option>
        </select></label
      >
      <select
        v-if="chosen.ledger.length > 1"
        class="in-line all"
        aria-label="Copy moves to"
        title="Copy all moves of this ledger, or those picked with Shift and a click, to another track or group"
        @change="copyTo">
        <option value="">{{ copyWords }}</option>
        <option v-for="other in others" :key="other.id" :value="other.id">{{ other.name }}</option>
      </select>
    </div>
    <SurveyRow />
    <MarginNotes class="notes" />
  </section>
</template>

<style scoped>
.head {
  display: flex;
  flex-wrap: wrap;
  align-items: baseline;
  gap: 6px;
  padding: 4px 6px 3px 24px;
  border-bottom: 1px solid var(--line);
  font-size: 0.7812rem;
  white-space: nowrap;
}
.summary {
  white-space: normal;
}
.find {
  font-weight: 700;
}
.head .all {
  margin-left: auto;
  field-sizing: content;
  max-width: 7.75rem;
}
.head label {
  display: flex;
  flex-wrap: wrap;
  min-width: 0;
}
.head select {
  max-width: 100%;
}
.notes {
  flex: 1 0 6rem;
  min-height: 0;
}
.side {
  overflow-y: auto;
  display: flex;
  flex-direction: column;
  min-height: 0;
  min-width: 0;
}
</style>
