<script setup lang="ts">
/** What two sides read, line by line. */
import { computed } from 'vue'
import type { SoundFigures } from '../api/client'

const props = defineProps<{ before: SoundFigures; after: SoundFigures; names: readonly [string, string] }>()
const figureText = (value: number | null | undefined) => (value == null ? 'none' : value.toFixed(1).replace('-', '−'))
const rows = computed(() => {
  const { before, after } = props
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
</script>

<template>
  <table class="figures-table">
    <thead>
      <tr>
        <th scope="col"><span class="unseen">what is read</span></th>
        <th scope="col">{{ names[0] }}</th>
        <th scope="col">{{ names[1] }}</th>
        <th scope="col"><span class="unseen">unit</span></th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="[label, one, other, unit] in rows" :key="label">
        <th scope="row">{{ label }}</th>
        <td class="figures">{{ figureText(one) }}</td>
        <td class="figures">{{ figureText(other) }}</td>
        <td class="soft">{{ unit }}</td>
      </tr>
    </tbody>
  </table>
</template>
