<script setup lang="ts">
/** What was said by whoever listened, in the order of the song. */
import { useRemarks } from '../composables/work'
import { formatHz, formatTime } from '../lib/figures'

const remarks = useRemarks()
const { list } = remarks
</script>

<template>
  <section aria-label="Remarks">
    <p>
      <button class="plain boxed" data-test="begin-remark" @click="remarks.begin()">
        Write one about what is heard now
      </button>
      <span class="soft"> key E, on every screen</span>
    </p>
    <ol v-if="list.length" data-test="remarks">
      <li v-for="{ strip, remark } in list" :key="remark.id">
        <button class="plain at figures" title="Play from there" @click="remarks.hear({ strip, remark })">
          {{ formatTime(remark.at_s) }}
        </button>
        <span
          ><b>{{ strip.name }}</b
          ><span v-if="remark.hz" class="figures soft"> {{ formatHz(remark.hz) }}</span
          ><br /><bdi>{{ remark.text }}</bdi
          ><span v-if="remark.author" class="soft"> ({{ remark.author }})</span></span
        >
        <button class="plain" title="Take it away; undo brings it back" @click="remarks.remove(strip, remark)">
          take away
        </button>
      </li>
    </ol>
    <p v-else class="soft">
      Nothing was said yet. A remark stands at a time of a track, and at a frequency where the pointer is on one; the
      Round lists it as something to be judged, and the printed page shows it.
    </p>
  </section>
</template>

<style scoped>
ol {
  list-style: none;
  margin: 0;
  padding: 0;
}
li {
  display: grid;
  grid-template-columns: 60px minmax(0, 1fr) auto;
  gap: 10px;
  align-items: baseline;
  padding: 6px 0;
  border-bottom: 1px solid var(--line);
  overflow-wrap: anywhere;
}
.at {
  text-decoration: underline;
  text-align: left;
}
</style>
