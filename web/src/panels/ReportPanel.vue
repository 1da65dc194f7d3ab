<script setup lang="ts">
/** What was done in the treatment that is worked on, why, and what was found of it; to be printed, too. */
import { computed } from 'vue'
import { api } from '../api/client'
import { useRead } from '../api/reads'
import { useBlind, useSession } from '../composables/work'

const { id, treatment, version, analyse } = useSession()
const { results } = useBlind()

const figures = useRead(
  'mix-figures',
  () => ({ version: version.value }),
  (_, signal) => analyse('mix-figures', {}, signal),
  () => [id, treatment.value],
)
const report = useRead(
  'report',
  () => ({ version: version.value, checks: results.value.length, measured: figures.answer.value !== null }),
  (_, signal) => api.report(id, treatment.value, signal),
  () => [id, treatment.value],
)
const strips = computed(() => report.answer.value?.strips.filter((strip) => strip.moves.length) ?? [])
const told = (value: number | null | undefined) => (value == null ? 'none' : value.toFixed(1).replace('-', '−'))
const rows = computed(() => {
  const now = figures.answer.value
  if (!now) return []
  const { before, after } = now
  return [
    ['Loudness', before.loudness_lufs, after.loudness_lufs, 'LUFS'],
    ['True peak', before.true_peak_db, after.true_peak_db, 'dBTP'],
    ['Loudness range', before.loudness_range_lu, after.loudness_range_lu, 'LU'],
    ...Object.keys(before.crest_db).map((region) => [
      `Crest factor, ${region}`,
      before.crest_db[region],
      after.crest_db[region],
      'dB',
    ]),
  ] as [string, number | null, number | null, string][]
})
const page = computed(() => `/api/sessions/${id}/report?treatment=${treatment.value}`)
const json = computed(() => `/api/sessions/${id}/report.json?treatment=${treatment.value}`)
</script>

<template>
  <section aria-label="What was done">
    <p class="row">
      <a :href="page" target="_blank" data-test="report-page">As a page to print</a>
      <a :href="json" download="what-was-done.json">as JSON</a>
    </p>
    <table v-if="rows.length" data-test="report-figures">
      <thead>
        <tr>
          <th>The mix</th>
          <th>before</th>
          <th>after</th>
          <th></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="[label, before, after, unit] in rows" :key="label">
          <td>{{ label }}</td>
          <td class="figures">{{ told(before) }}</td>
          <td class="figures">{{ told(after) }}</td>
          <td class="soft">{{ unit }}</td>
        </tr>
      </tbody>
    </table>
    <p v-else-if="figures.waiting.value" class="soft" role="status">measuring the mix before and after …</p>
    <template v-for="strip in strips" :key="strip.name">
      <h3>{{ strip.name }}</h3>
      <ul data-test="report-moves">
        <li v-for="(move, at) in strip.moves" :key="at" :class="{ off: !move.on }">
          <b>{{ move.says }}</b><template v-if="move.reason">: {{ move.reason }}</template>
          <span
            v-for="found in [move.verdict, move.in_mix, move.under_pressure, move.blind].filter(Boolean)"
            :key="found"
            class="soft found"
            >{{ found }}</span
          >
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
table {
  border-collapse: collapse;
  margin-bottom: 8px;
}
th,
td {
  text-align: left;
  padding: 2px 18px 2px 0;
  border-bottom: 1px solid var(--line);
}
h3 {
  margin: 12px 0 2px;
  font-size: 15px;
}
ul {
  margin: 0;
  padding-left: 18px;
  font-size: 14px;
}
.found {
  display: block;
}
.off {
  color: var(--ink-soft);
  text-decoration: line-through;
}
</style>
