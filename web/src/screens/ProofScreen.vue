<script setup lang="ts">
/** Proof: treatments side by side, what they do differently, and blind checks. */
import { onBeforeUnmount, onMounted, ref } from 'vue'
import { useBlind, useTreatments } from '../composables/work'
import BlindPanel from '../panels/BlindPanel.vue'
import BlindRun from '../panels/BlindRun.vue'
import ReportPanel from '../panels/ReportPanel.vue'
import KeptPanel from '../panels/KeptPanel.vue'
import LikenessPanel from '../panels/LikenessPanel.vue'
import TreatmentPanel from '../panels/TreatmentPanel.vue'

const { open } = useTreatments()
const blind = useBlind()
const { running } = blind
const PARTS = { blind: BlindPanel, likeness: LikenessPanel, report: ReportPanel, kept: KeptPanel } as const
const WORDS: Record<keyof typeof PARTS, string> = {
  blind: 'Blind check',
  likeness: 'Likeness',
  report: 'What was done',
  kept: 'Kept moves',
}
const part = ref<keyof typeof PARTS>('blind')
onMounted(() => (open.value = true))
onBeforeUnmount(() => {
  open.value = false
  blind.leave()
})
</script>

<template>
  <BlindRun v-if="running" />
  <div v-else class="proof">
    <TreatmentPanel />
    <div class="right">
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
      <component :is="PARTS[part]" />
    </div>
  </div>
</template>

<style scoped>
.proof {
  display: grid;
  grid-template-columns: minmax(0, 12fr) minmax(0, 11fr);
  height: 100%;
  min-height: 0;
}
.proof > * {
  overflow-y: auto;
  padding: 16px 22px;
}
.proof > * + * {
  border-left: 1.5px solid var(--ink);
}
nav {
  display: flex;
  gap: 14px;
  margin-bottom: 12px;
  border-bottom: 1px solid var(--line);
}
nav button {
  font-size: 19px;
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
</style>
