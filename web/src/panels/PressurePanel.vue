<script setup lang="ts">
/** What comes back under pressure, of all tracks, strongest first; each heard with one gesture and held down by one. */
import { computed } from 'vue'
import { useRouter } from 'vue-router'
import HoldButton from '../components/HoldButton.vue'
import { usePlay, usePressure, useBench, useSession } from '../composables/work'
import CameBack from './CameBack.vue'
import type { PressureRow } from '../composables/usePressure'

const { state, chosenId } = useSession()
const { pressure, through, meter } = usePlay()
const { entryId } = useBench()
const test = usePressure()
const { rows, coming, waiting, standsIn, problem, ownCurve, monoText } = test
const WAYS = [
  ['nothing', 'as it is'],
  ['mono', 'mono'],
  ['small-speaker', 'small speaker'],
] as const
function readCurve(event: Event) {
  const input = event.target as HTMLInputElement
  const file = input.files?.[0]
  if (file) void test.readCurve(file)
  input.value = ''
}
const router = useRouter()

const words = computed(() => {
  if (waiting.value) return `listening to ${waiting.value} track${waiting.value === 1 ? '' : 's'} …`
  const n = coming.value.length
  if (n) return n === 1 ? 'one comes back' : `${n} come back`
  if (rows.value.length) return rows.value.length === 1 ? 'it stays cured' : `all ${rows.value.length} stay cured`
  return 'no fault was cut or found that could come back'
})
function show(row: PressureRow) {
  chosenId.value = row.stripId
  entryId.value = row.entry_id
  void router.push(`/session/${state.value.id}/bench`)
}
</script>

<template>
  <section class="pressure" aria-label="Pressure test" data-test="pressure-panel">
    <header>
      <h2>Pressure test</h2>
      <span class="soft" role="status" data-test="pressure-told">{{
        standsIn
          ? words
          : 'Nothing stands yet for what is done later: compression, a room. They are heard here only, never rendered.'
      }}</span>
      <span v-if="standsIn && !pressure" class="soft">(heard without it just now)</span>
      <span class="space"></span>
      <button v-if="!standsIn" class="plain boxed" data-test="draft-stand-ins" @click="test.draft">
        draft stand-ins by what each track is
      </button>
      <button v-else class="plain" title="Take all stand-ins out again" @click="test.remove">remove stand-ins</button>
      <button class="plain" @click="test.close">close</button>
    </header>
    <div class="ears" role="group" aria-label="Listen through">
      <span class="soft">listen through (M)</span>
      <button
        v-for="[kind, label] in WAYS"
        :key="kind"
        class="plain boxed"
        :aria-pressed="through.kind === kind"
        @click="test.listenThrough(kind)">
        {{ label }}
      </button>
      <button
        v-if="ownCurve.length"
        class="plain boxed"
        :aria-pressed="through.kind === 'curve'"
        @click="test.listenThrough('curve')">
        own curve
      </button>
      <label class="soft file" title="A text file with a frequency in Hz and a level in dB in each line"
        >{{ ownCurve.length ? 'another curve' : 'own curve from a file' }}
        <input type="file" accept=".txt,.csv,text/plain" data-test="curve-file" @change="readCurve" />
      </label>
      <span v-if="meter?.correlation != null" class="soft figures" data-test="correlation"
        >sides go together {{ meter.correlation.toFixed(2).replace('-', '−') }}</span
      >
      <span v-if="monoText.length" class="against" data-test="mono-told" :title="monoText.join('; ')">{{
        monoText.join('; ')
      }}</span>
    </div>
    <CameBack />
    <p v-if="problem" class="problem">{{ problem }}</p>
    <ul v-if="rows.length">
      <li v-for="row in rows" :key="`${row.stripId} ${row.entry_id} ${row.hz}`" :class="{ back: row.comes_back }">
        <span class="stroke" :style="{ width: `${Math.min(Math.max(row.back_db, 0.3), 9) * 4}px` }"></span>
        <button class="sentence" title="Show it on the bench" data-test="pressure-row" @click="show(row)">
          <b>{{ row.name }}</b> {{ row.sentence }}
        </button>
        <HoldButton
          title="Hold: with its moves, without the stand-ins"
          @hold="test.hear('with', row)"
          @release="test.hear(null)"
          >with</HoldButton
        >
        <HoldButton title="Hold: without its moves" @hold="test.hear('without', row)" @release="test.hear(null)"
          >without</HoldButton
        >
        <HoldButton
          title="Hold: with its moves, under pressure"
          @hold="test.hear('pressed', row)"
          @release="test.hear(null)"
          >under pressure</HoldButton
        >
        <button
          v-if="row.deeper && row.deeper_by_db"
          class="plain boxed deeper"
          data-test="hold-down"
          title="The least extra depth that holds it down"
          @click="test.deepen(row)">
          cut {{ row.deeper_by_db.toFixed(1) }} dB more
        </button>
      </li>
    </ul>
  </section>
</template>

<style scoped>
.pressure {
  border-top: 1.5px solid var(--ink);
  padding: 4px 12px 6px;
  background: var(--paper);
  max-height: 186px;
  display: flex;
  flex-direction: column;
}
header {
  display: flex;
  gap: 10px;
  align-items: baseline;
}
h2 {
  font-size: 0.9375rem;
  margin: 0;
}
.space {
  flex: 1;
}
.ears {
  display: flex;
  gap: 6px;
  align-items: center;
  font-size: 0.8125rem;
}
.ears button {
  font-size: 0.7812rem;
  padding: 0 6px;
}
.against {
  min-width: 0;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
  color: var(--vermilion);
}
.file {
  text-decoration: underline;
  cursor: pointer;
}
.file input {
  position: absolute;
  width: 1px;
  height: 1px;
  opacity: 0;
}
.file:focus-within {
  outline: 2px solid var(--ink);
}
.problem {
  margin: 0;
  color: var(--vermilion);
}
ul {
  margin: 2px 0 0;
  padding: 0;
  list-style: none;
  overflow-y: auto;
}
li {
  display: grid;
  grid-template-columns: 40px minmax(0, 1fr) auto auto auto 128px;
  gap: 6px;
  align-items: center;
  padding: 1px 0;
  font-size: 0.8438rem;
  color: var(--ink-soft);
}
.back {
  color: var(--ink);
}
li :deep(button) {
  font-size: 0.7812rem;
  padding: 0 6px;
}
.stroke {
  height: 0;
  border-top: 2px solid var(--line);
}
.back .stroke {
  border-top: 4px solid var(--vermilion);
}
li .sentence {
  border: 0;
  background: none;
  color: inherit;
  font: inherit;
  text-align: left;
  padding: 0;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
  cursor: pointer;
}
.deeper {
  color: var(--green);
  font-weight: 700;
}
</style>
