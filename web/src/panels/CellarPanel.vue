<script setup lang="ts">
/** The cellar: what every track holds below its lowest note, and how high each may be cut; heard first, then taken. */
import { usePlay, useSession } from '../composables/work'
import { computed, onBeforeUnmount, ref, shallowRef } from 'vue'
import { type Cellar, type ChosenCuts, type Intent, type LedgerEntry, type Track } from '../api/client'
import { useRead } from '../api/reads'
import { yOfHz } from '../lib/axis'
import { addMove, removeMove } from '../lib/intents'
import { newId } from '../lib/moves'
import { formatHz, noteOfHz, unbroken } from '../lib/figures'
import CellarSum from '../components/CellarSum.vue'
import HoldButton from '../components/HoldButton.vue'

type Row = Cellar['rows'][number]
type Choice = 'none' | 'safe' | 'in_the_mix'

const session = useSession()
const { known, state, edit, analyse } = session
const play = usePlay()
const cellar = shallowRef<Cellar | null>(null)
const choices = ref<Record<string, Choice>>({})
const looking = ref(false)
const problem = ref('')
const hearing = ref(false)
const WIDTH = 74
const HEIGHT = 40
const view = { lowHz: 20, highHz: 500 }
const RANGE_DB = 50

const tracks = computed(() => state.value?.tracks ?? [])
const rows = computed(() =>
  (cellar.value?.rows ?? []).flatMap((row) => {
    const track = tracks.value.find((one) => one.id === row.track_id)
    return track ? [{ row, track }] : []
  }),
)
const reasonOf = (choice: Choice) =>
  choice === 'safe' ? 'Cellar: just below its lowest note' : 'Cellar: as high as is not missed in the mix'
const cutOf = (row: Row) =>
  choices.value[row.track_id] === 'safe'
    ? row.safe
    : choices.value[row.track_id] === 'in_the_mix'
      ? row.in_the_mix
      : null
const chosen = computed(() => rows.value.filter(({ row }) => cutOf(row)))
/** In place of what was cleared before, at the head of each ledger. */
const clearing = (track: Track, row: Row): Intent[] => {
  const move = cutOf(row)
  if (!move) return []
  const reason = reasonOf(choices.value[row.track_id] ?? 'none')
  const entry: LedgerEntry = { id: newId(), move, reason, evidence: null, clash: null }
  const before = track.ledger.filter(isOfCellar).map((one) => removeMove(track, one))
  return [...before, addMove(track, entry, { head: true })]
}
const intents = () =>
  chosen.value.flatMap(({ row }) => {
    const track = known.value.tracks.find((one) => one.id === row.track_id)
    return track ? clearing(track, row) : []
  })
/** What is asked of the server whenever other cuts are chosen. */
const wanted = computed(() => {
  const cuts: ChosenCuts['cuts'] = Object.fromEntries(
    rows.value.flatMap(({ row }) => {
      const cut = cutOf(row)
      return cut ? [[row.track_id, cut]] : []
    }),
  )
  return rows.value.length ? { cuts } : null
})
const looks = ref(0)
const sum = useRead(
  'pile-up',
  () => wanted.value,
  ({ cuts }, signal) => analyse('pile-up', { cuts }, signal),
  () => looks.value,
).answer
const needing = computed(() => rows.value.filter(({ row }) => row.needs_lows).map(({ track }) => track.name))
const cleared = ref('')
const isOfCellar = (entry: LedgerEntry) => !!entry.reason?.startsWith('Cellar:')
const stillCleared = computed(() => tracks.value.some((track) => track.ledger.some(isOfCellar)))

async function look() {
  looking.value = true
  looks.value += 1
  problem.value = ''
  cleared.value = ''
  try {
    cellar.value = await analyse('cellar', {})
    choose('safe')
  } catch (error) {
    problem.value = error instanceof Error ? error.message : String(error)
  } finally {
    looking.value = false
  }
}

function choose(choice: Choice) {
  choices.value = Object.fromEntries(rows.value.map(({ row }) => [row.track_id, choice]))
}

/** Hold to hear the whole mix with the chosen cuts, unsaved. */
async function hear(on: boolean) {
  if (on === hearing.value) return
  hearing.value = on
  if (!on) {
    play.draftId.value = null
    return
  }
  play.alone.value = false
  let id: string
  try {
    id = await session.keepDraft(intents())
  } catch (error) {
    problem.value = error instanceof Error ? error.message : String(error)
    return
  }
  if (!hearing.value) return // let go of meanwhile
  play.draftId.value = id
  if (!play.playing.value) void play.play()
}

async function take() {
  void hear(false)
  const [count, lost] = [chosen.value.length, sum.value?.lost_db]
  await edit('Clear the cellar', intents())
  const lostText = lost === undefined ? '' : unbroken(`${lost.toFixed(1)} dB`)
  const less = lostText && `, the mix has lost ${lostText} of what lay below the lowest notes`
  const tracksText = `${count} track${count === 1 ? '' : 's'}`
  cleared.value = `Cleared: ${tracksText} cut${less}. Undo brings all of it back.`
  cellar.value = null
}

/** The low end as a line, frequency up and level sideways, and where it would be cut. */
function path(row: Row): string {
  const top = Math.max(...row.low_db)
  return row.low_hz
    .map((hz, index) =>
      [index ? 'L' : 'M', xOf(top - (row.low_db[index] ?? -120)).toFixed(1), yOf(hz).toFixed(1)].join(' '),
    )
    .join(' ')
}
const xOf = (underTopDb: number) => (WIDTH - 4) * Math.max(1 - underTopDb / RANGE_DB, 0)
const yOf = (hz: number) => yOfHz(Math.max(hz, view.lowHz), view, HEIGHT)
const note = (hz: number | null) => (hz === null ? 'silent' : `${noteOfHz(hz).name}, ${formatHz(hz)}`)
onBeforeUnmount(() => void hear(false))
</script>

<template>
  <section class="cellar" aria-label="Cellar">
    <h2>Cellar</h2>
    <p class="soft">
      Low energy that nobody hears alone piles up over many tracks. Clear it first.
      <button class="plain boxed" data-test="look-in-cellar" :disabled="looking || !tracks.length" @click="look">
        {{ looking ? 'listening …' : 'look into the cellar' }}
      </button>
      <span v-if="problem" class="problem">{{ problem }}</span>
    </p>
    <p v-if="cleared && stillCleared" data-test="cellar-cleared" role="status">{{ cleared }}</p>
    <div v-if="rows.length" class="both">
      <div>
        <table data-test="cellar">
          <thead>
            <tr>
              <th>Track</th>
              <th>Below 500 Hz</th>
              <th>Lowest note</th>
              <th>Leave</th>
              <th><button class="plain" @click="choose('safe')">Safe</button></th>
              <th><button class="plain" @click="choose('in_the_mix')">In the mix</button></th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="{ row, track } in rows" :key="row.track_id">
              <td>{{ track.name }}</td>
              <td>
                <svg :width="WIDTH" :height="HEIGHT" role="img" :aria-label="`Low end of ${track.name}`">
                  <path :d="path(row)" />
                  <line
                    v-if="cutOf(row)"
                    x1="0"
                    :x2="WIDTH"
                    :y1="yOf(cutOf(row)?.hz ?? 20)"
                    :y2="yOf(cutOf(row)?.hz ?? 20)" />
                </svg>
              </td>
              <td class="figures">{{ note(row.lowest_note_hz) }}</td>
              <td>
                <input
                  v-model="choices[row.track_id]"
                  type="radio"
                  value="none"
                  :name="row.track_id"
                  :aria-label="`Leave ${track.name}`" />
              </td>
              <td class="figures">
                <label v-if="row.safe"
                  ><input v-model="choices[row.track_id]" type="radio" value="safe" :name="row.track_id" />
                  {{ formatHz(row.safe.hz) }}, {{ row.safe.slope_db_per_octave }} dB/oct</label
                >
              </td>
              <td class="figures">
                <label v-if="row.in_the_mix"
                  ><input v-model="choices[row.track_id]" type="radio" value="in_the_mix" :name="row.track_id" />
                  {{ formatHz(row.in_the_mix.hz) }}, {{ row.in_the_mix.slope_db_per_octave }} dB/oct</label
                >
              </td>
            </tr>
          </tbody>
        </table>
        <div class="row">
          <HoldButton
            data-test="hear-cellar"
            :aria-pressed="hearing"
            title="Hold to hear the mix with these cuts"
            @hold="hear(true)"
            @release="hear(false)"
            >hold to hear</HoldButton
          >
          <button class="plain boxed take" data-test="clear-cellar" :disabled="!chosen.length" @click="take">
            clear the cellar of {{ chosen.length }} track{{ chosen.length === 1 ? '' : 's' }}
          </button>
          <span v-if="sum" class="soft"
            >takes {{ unbroken(`${sum.lost_db.toFixed(1)} dB`) }} off what lies below the lowest notes</span
          >
        </div>
      </div>
      <CellarSum v-if="sum" :sum="sum" :needing="needing" />
    </div>
  </section>
</template>

<style scoped>
.cellar {
  margin-top: 18px;
}
.both {
  display: flex;
  gap: 34px;
  flex-wrap: wrap;
  align-items: flex-start;
}
h2 {
  font-size: 0.9375rem;
  margin: 0 0 4px;
}
p {
  margin: 0 0 6px;
}
table {
  border-collapse: collapse;
}
th {
  text-align: left;
  font-weight: 400;
  color: var(--ink-soft);
  border-bottom: 1.5px solid var(--ink);
  padding: 2px 14px 2px 0;
}
th .plain {
  padding: 0;
  text-decoration: underline;
}
td {
  border-bottom: 1px solid var(--line);
  padding: 2px 14px 2px 0;
  white-space: nowrap;
}
svg {
  display: block;
  border-left: 1px solid var(--ink-soft);
}
path {
  fill: none;
  stroke: var(--ink);
  stroke-width: 1.2;
}
line {
  stroke: var(--green);
  stroke-width: 2;
  stroke-dasharray: 4 2;
}
.row {
  display: flex;
  gap: 10px;
  align-items: center;
  margin-top: 8px;
}
.take {
  font-weight: 700;
  color: var(--green);
}
input {
  accent-color: var(--green);
}
.problem {
  color: var(--vermilion);
}
</style>
