<script setup lang="ts">
/** What was done in the treatment that is worked on, why, and what was found of it; to be printed, too. */
import { computed } from 'vue'
import { api } from '../api/client'
import { useRead } from '../api/reads'
import FiguresTable from '../components/FiguresTable.vue'
import { useBlind, useSession } from '../composables/work'
import { formatTime } from '../lib/figures'

const { id, treatment, version, analyse } = useSession()
const { results } = useBlind()

const figures = useRead(
  'sides',
  () => ({ version: version.value }),
  (_, signal) => analyse('sides', { strip_id: null, compared: 'all-moves', other: null, reference_id: null }, signal),
  () => [id, treatment.value],
)
const report = useRead(
  'report',
  () => ({ version: version.value, checks: results.value.length, measured: figures.answer.value !== null }),
  (_, signal) => api.report(id, treatment.value, signal),
  () => [id, treatment.value],
)
const strips = computed(
  () => report.answer.value?.strips.filter((strip) => strip.moves.length || strip.remarks?.length) ?? [],
)
const page = computed(() => `/api/sessions/${id}/report?treatment=${treatment.value}`)
const json = computed(() => `/api/sessions/${id}/report.json?treatment=${treatment.value}`)
</script>

<template>
  <section aria-label="What was done">
    <p class="row">
      <a :href="page" target="_blank" data-test="report-page">As a page to print</a>
      <a :href="json" download="what-was-done.json">as JSON</a>
    </p>
    <FiguresTable
      v-if="figures.answer.value"
      :before="figures.answer.value.before"
      :after="figures.answer.value.after"
      :names="['before', 'after']"
      data-test="report-figures" />
    <p v-else-if="figures.waiting.value" class="soft" role="status">measuring the mix before and after …</p>
    <template v-for="strip in strips" :key="strip.name">
      <h3>{{ strip.name }}</h3>
      <ul data-test="report-moves">
        <li v-for="(move, at) in strip.moves" :key="at" :class="{ off: !move.on }">
          <b>{{ move.sentence }}</b><template v-if="move.reason">: {{ move.reason }}</template>
          <span
            v-for="found in [move.verdict, move.in_mix, move.under_pressure, move.blind].filter(Boolean)"
            :key="found"
            class="soft found"
            >{{ found }}</span
          >
        </li>
        <li v-for="remark in strip.remarks" :key="`${remark.at_s} ${remark.text}`">
          <span class="figures">{{ formatTime(remark.at_s) }}</span> “<bdi>{{ remark.text }}</bdi
          >”<span v-if="remark.author" class="soft"> ({{ remark.author }})</span>
        </li>
      </ul>
    </template>
    <p v-if="report.answer.value && !strips.length" class="soft">No moves yet.</p>
  </section>
</template>

<style scoped>
.row {
  display: flex;
  gap: 16px;
  margin: 4px 0 10px;
}
a {
  color: inherit;
}
h3 {
  margin: 12px 0 2px;
  font-size: 0.9375rem;
}
ul {
  margin: 0;
  padding-left: 18px;
  font-size: 0.875rem;
}
.found {
  display: block;
}
.off {
  color: var(--ink-soft);
  text-decoration: line-through;
}
</style>
