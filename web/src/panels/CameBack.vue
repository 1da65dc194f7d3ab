<script setup lang="ts">
/** What they really did: a file that came back from somebody's later chain stands in for what is done to its track. */
import { computed, ref } from 'vue'
import { usePressure, useSession } from '../composables/work'

const { state } = useSession()
const { cameBack } = usePressure()
const tracks = computed(() => state.value.tracks)
const known = computed(() => tracks.value.flatMap((track) => (track.later ? [{ track, later: track.later }] : [])))
const rateHz = computed(() => state.value.sample_rate_hz)

const backId = ref('')
const trackId = ref('')
const holdsCuts = ref(true)
const working = ref(false)
const ready = computed(() => backId.value && trackId.value && backId.value !== trackId.value && !working.value)

async function use() {
  working.value = true
  if (await cameBack(trackId.value, backId.value, holdsCuts.value)) backId.value = trackId.value = ''
  working.value = false
}
const late = (startFrame: number, trackStart: number) => {
  const ms = (1000 * (trackStart - startFrame)) / rateHz.value
  return `${Math.abs(ms).toFixed(1)} ms ${ms < 0 ? 'early' : 'late'} in its file`
}
const level = (db: number) => `${Math.abs(db).toFixed(1)} dB ${db < 0 ? 'softer' : 'louder'}`
</script>

<template>
  <details class="back" data-test="came-back">
    <summary class="soft">what they really did{{ known.length ? ` (${known.length})` : '' }}</summary>
    <p v-for="{ track, later } in known" :key="track.id">
      <b>{{ track.name }}</b> as it came back: {{ level(later.louder_db ?? 0) }},
      {{ late(later.start_frame, track.start_frame ?? 0) }}{{ later.holds_cuts ? ', with the cuts in it' : '' }}
    </p>
    <p>
      <select v-model="backId" aria-label="The file that came back" data-test="back-file">
        <option value="">a file that came back …</option>
        <option v-for="track in tracks" :key="track.id" :value="track.id">{{ track.name }}</option>
      </select>
      is
      <select v-model="trackId" aria-label="The track that it was made of" data-test="back-of">
        <option value="">a track …</option>
        <option v-for="track in tracks.filter((one) => one.id !== backId)" :key="track.id" :value="track.id">
          {{ track.name }}
        </option>
      </select>
      <label><input v-model="holdsCuts" type="checkbox" /> made with its moves</label>
      <button class="plain boxed" :disabled="!ready" data-test="use-back" @click="use">
        {{ working ? 'aligning …' : 'stands in for it' }}
      </button>
      <span class="soft">Bring the file in on Gather first; it then is no track of its own any more.</span>
    </p>
  </details>
</template>

<style scoped>
.back {
  font-size: 0.8125rem;
}
p {
  margin: 2px 0;
  display: flex;
  gap: 7px;
  align-items: center;
}
summary {
  cursor: pointer;
}
</style>
