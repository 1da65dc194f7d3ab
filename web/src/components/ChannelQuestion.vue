<script setup lang="ts">
/** What is to become of files of many channels, and of lefts and rights: said once for all that came in together. */
import { ElButton } from 'element-plus'
import { onMounted, ref, useTemplateRef } from 'vue'
import type { IncomingAnswer, IncomingQuestion } from '../lib/incoming'

const { question } = defineProps<{ question: IncomingQuestion }>()
const emit = defineEmits<{ answer: [given: Pick<IncomingAnswer, 'channels' | 'join'>] }>()
const channels = ref<'mono' | 'pairs'>('mono')
const join = ref(true)
const SHOWN = 3
const form = useTemplateRef<HTMLFormElement>('form')
// Nothing goes on before this is answered.
onMounted(() => {
  form.value?.scrollIntoView({ block: 'nearest' })
  form.value?.querySelector('input')?.focus({ preventScroll: true })
})

const named = (names: readonly string[]) =>
  names.slice(0, SHOWN).join(', ') + (names.length > SHOWN ? ` and ${names.length - SHOWN} more` : '')
const given = () =>
  emit('answer', {
    channels: question.many.length ? channels.value : null,
    join: question.pairs.length > 0 && join.value,
  })
</script>

<template>
  <form ref="form" class="question" data-test="channel-question" @submit.prevent="given">
    <fieldset v-if="question.many.length">
      <legend>
        More than two channels: <bdi>{{ named(question.many) }}</bdi>
      </legend>
      <label><input v-model="channels" type="radio" value="mono" /> each channel becomes a track</label>
      <label
        ><input v-model="channels" type="radio" value="pairs" /> each two become a stereo track: 1 and 2, 3 and 4</label
      >
    </fieldset>
    <fieldset v-if="question.pairs.length">
      <legend>
        Left and right by their names: <bdi>{{ named(question.pairs) }}</bdi>
      </legend>
      <label><input v-model="join" type="radio" :value="true" /> join them into stereo tracks</label>
      <label><input v-model="join" type="radio" :value="false" /> keep them apart</label>
    </fieldset>
    <ElButton native-type="submit" type="primary">Bring them in</ElButton>
  </form>
</template>

<style scoped>
.question {
  display: flex;
  flex-wrap: wrap;
  gap: 10px 30px;
  align-items: end;
  margin: 0 0 14px;
  padding: 10px 12px;
  border: 1.5px solid var(--ink);
}
fieldset {
  border: 0;
  padding: 0;
  margin: 0;
}
legend {
  font-weight: 700;
  overflow-wrap: anywhere;
}
label {
  display: block;
  padding: 2px 0;
}
</style>
