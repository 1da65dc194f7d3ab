<script setup lang="ts">
/** Proof: treatments side by side, what they do differently, blind checks, references, remarks, what was done. */
import { onBeforeUnmount, onMounted, ref } from 'vue'
import { useBlind, useTreatments } from '../composables/work'
import BlindPanel from '../panels/BlindPanel.vue'
import BlindRun from '../panels/BlindRun.vue'
import KeptPanel from '../panels/KeptPanel.vue'
import LikenessPanel from '../panels/LikenessPanel.vue'
import ReferencesPanel from '../panels/ReferencesPanel.vue'
import RemarksPanel from '../panels/RemarksPanel.vue'
import ReportPanel from '../panels/ReportPanel.vue'
import SidesPanel from '../panels/SidesPanel.vue'
import TreatmentPanel from '../panels/TreatmentPanel.vue'

const { open } = useTreatments()
const blind = useBlind()
const { running } = blind
const PARTS = {
  sides: SidesPanel,
  blind: BlindPanel,
  references: ReferencesPanel,
  likeness: LikenessPanel,
  remarks: RemarksPanel,
  report: ReportPanel,
  kept: KeptPanel,
} as const
const WORDS: Record<keyof typeof PARTS, string> = {
  sides: 'Before and after',
  blind: 'Blind check',
  references: 'References',
  likeness: 'Likeness',
  remarks: 'Remarks',
  report: 'What was done',
  kept: 'Kept moves',
}
const part = ref<keyof typeof PARTS>('sides')
onMounted(() => (open.value = true))
onBeforeUnmount(() => {
  open.value = false
  blind.leave()
})
</script>

<template>
  <BlindRun v-if="running" />
  <div v-else class="proof">
    <nav aria-label="Proof">
      <button
        v-for="(label, name) in WORDS"
        :key="name"
        class="plain"
        :aria-pressed="part === name"
        :data-test="`part-${name}`"
        @click="part = name">
        {{ label }}
      </button>
    </nav>
    <div class="parts" :class="{ whole: part === 'sides' }">
      <TreatmentPanel v-if="part !== 'sides'" />
      <div class="right"><component :is="PARTS[part]" /></div>
    </div>
  </div>
</template>

<style scoped>
.proof {
  display: flex;
  flex-direction: column;
  height: 100%;
  min-height: 0;
}
nav {
  display: flex;
  gap: 18px;
  padding: 8px 22px 0;
  border-bottom: 1px solid var(--line);
}
nav button {
  font-size: 1.0625rem;
  font-weight: 700;
  padding: 0 0 5px;
  color: var(--ink-soft);
  border-bottom: 3px solid transparent;
}
nav button[aria-pressed='true'] {
  color: var(--ink);
  background: none;
  border-bottom-color: var(--ink);
}
.parts {
  flex: 1;
  min-height: 0;
  display: grid;
  grid-template-columns: minmax(0, 11fr) minmax(0, 12fr);
}
.parts.whole {
  grid-template-columns: minmax(0, 1fr);
}
.parts > * {
  overflow-y: auto;
  padding: 12px 22px;
}
.parts > * + * {
  border-left: 1.5px solid var(--ink);
}
</style>
