<script setup lang="ts">
/** A remark being written, about the moment that was heard; play goes on meanwhile. */
import { computed, nextTick, onMounted, useTemplateRef } from 'vue'
import StripSelect from '../components/StripSelect.vue'
import FigureInput from '../components/FigureInput.vue'
import { useRemarks, useSession } from '../composables/work'
import { stripsOf } from '../lib/intents'

const { state, chosenId } = useSession()
const { chosen, atS, hz, text, author, say, cancel } = useRemarks()
const strips = computed(() => stripsOf(state.value))
const field = useTemplateRef<HTMLInputElement>('field')
onMounted(async () => {
  await nextTick()
  field.value?.focus()
})
</script>

<template>
  <form class="remark" aria-label="A remark" @submit.prevent="say" @keydown.esc.stop="cancel">
    <StripSelect
      :model-value="chosen?.id ?? ''"
      :strips="strips"
      label="On which track"
      @update:model-value="chosenId = $event" />
    <span class="soft">at</span>
    <FigureInput label="at" bare unit="s" :value="atS" :minimum="0" :maximum="1000000" @commit="atS = $event ?? atS" />
    <span class="soft">and, where it is about one frequency,</span>
    <FigureInput
      label="at the frequency"
      bare
      unit="Hz"
      :value="hz"
      :minimum="20"
      :maximum="20000"
      optional
      @commit="hz = $event" />
    <input
      ref="field"
      v-model="text"
      class="text"
      maxlength="500"
      placeholder="what is heard there"
      aria-label="Remark"
      data-test="remark-text" />
    <input v-model="author" class="by" maxlength="60" placeholder="by whom" aria-label="By whom" />
    <button class="plain boxed" data-test="say-remark" :disabled="!text.trim()">Keep it</button>
    <button type="button" class="plain" @click="cancel">close</button>
  </form>
</template>

<style scoped>
.remark {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  align-items: center;
  padding: 6px 12px;
  border-top: 1.5px solid var(--ink);
  background: var(--paper);
}
.text,
.by {
  font: inherit;
  color: inherit;
  background: var(--paper-raised);
  border: 1px solid var(--line);
  padding: 3px 6px;
}
.text {
  flex: 1;
  min-width: 220px;
}
.by {
  width: 110px;
}
</style>
