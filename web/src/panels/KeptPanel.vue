<script setup lang="ts">
/** Moves kept under a name, over all sessions: found by name and role, heard before they are taken. */
import { useQuery } from '@tanstack/vue-query'
import { computed, onBeforeUnmount, ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, type KeptMoves, type LedgerEntry, type Move, type NewKeptMoves, type Strip } from '../api/client'
import DeleteButton from '../components/DeleteButton.vue'
import HoldButton from '../components/HoldButton.vue'
import StripSelect from '../components/StripSelect.vue'
import { queries } from '../api/reads'
import { useEdits, useHunt, usePlay, useSession } from '../composables/work'
import { addMove, lastingStripsOf } from '../lib/intents'
import { newId } from '../lib/moves'

const session = useSession()
const { about, state, chosen, chosenId, knownChosen } = session
const strip = computed({ get: () => chosen.value?.id ?? '', set: (id) => (chosenId.value = id) })
const { pickedIds } = useEdits()
const { hunt } = useHunt()
const play = usePlay()
const router = useRouter()

const listing = useQuery(
  { queryKey: ['kept-moves'], queryFn: ({ signal }) => api.keptMoves(signal), staleTime: 0, shallow: true },
  queries,
)
const sought = ref('')
const ofRole = ref('')
const name = ref('')
const remark = ref('')
const amount = ref(100)
const problem = ref('')
const strips = computed(() => lastingStripsOf(state.value))
const roleOf = (strip: Strip | null) => (strip?.kind === 'track' ? strip.role : 'other')
const shown = computed(() =>
  (listing.data.value ?? []).filter(
    (one) =>
      (!ofRole.value || one.role === ofRole.value) &&
      `${one.name} ${one.remark} ${one.found_on}`.toLowerCase().includes(sought.value.trim().toLowerCase()),
  ),
)
/** The moves to be kept: those picked on the bench, else all of the ledger. */
const moves = computed<Move[]>(() => {
  const lasting = chosen.value?.ledger.filter((one) => !one.move.stand_in) ?? []
  const picked = lasting.filter((one) => pickedIds.value.has(one.id))
  return (picked.length ? picked : lasting).map((one) => one.move)
})

const showProblem = (error: unknown) => (problem.value = error instanceof Error ? error.message : String(error))
async function keep(treatment: unknown, called: string, foundOn: string) {
  problem.value = ''
  try {
    const role = roleOf(chosen.value)
    await api.keepMoves({ name: called, role, remark: remark.value, found_on: foundOn, treatment } as NewKeptMoves)
    name.value = remark.value = ''
    await listing.refetch()
  } catch (error) {
    showProblem(error)
  }
}
const keepChosen = () =>
  keep({ mivlo_treatment: 1, amount: 100, moves: moves.value }, name.value.trim(), chosen.value?.name ?? '')
async function bringIn(event: Event) {
  const input = event.target as HTMLInputElement
  const file = input.files?.[0]
  if (!file) return
  try {
    const treatment = JSON.parse(await file.text()) as unknown
    await keep(treatment, file.name.replace(/\.json$/, '').slice(0, 120), '')
  } catch {
    problem.value = `${file.name} is no treatment file: it is not JSON`
  }
  input.value = ''
}

async function intentsOf(one: KeptMoves) {
  const taken = await api.keptMovesAt(one.id, amount.value)
  const strip = knownChosen()
  const entries = taken.map((move): LedgerEntry => ({
    id: newId(),
    move,
    reason: `Kept: ${one.name}`,
    evidence: null,
    clash: null,
  }))
  return strip ? entries.map((entry) => addMove(strip, entry)) : []
}
let held: string | null = null
async function hear(one: KeptMoves | null) {
  held = one?.id ?? null
  if (!one) {
    play.draftId.value = null
    return
  }
  try {
    const id = await session.keepDraft(await intentsOf(one))
    if (held !== one.id) return // let go of meanwhile
    play.draftId.value = id
    if (!play.playing.value) void play.play()
  } catch (error) {
    showProblem(error)
  }
}
onBeforeUnmount(() => void hear(null))
async function take(one: KeptMoves) {
  try {
    await session.edit(`Kept moves: ${one.name}`, await intentsOf(one))
  } catch (error) {
    showProblem(error)
  }
}
async function remove(one: KeptMoves) {
  await api.removeKept(one.id)
  await listing.refetch()
}
const bytesOf = (one: KeptMoves) => JSON.stringify(one).length

const isElsewhere = (one: KeptMoves) => one.found_on !== chosen.value?.name
const elsewhere = (one: KeptMoves) => {
  const where = one.found_on ? `on ${one.found_on}` : 'elsewhere'
  return `Found ${where}: frequencies seldom carry over from one source to another.`
}
async function lookHere() {
  await router.push(`/session/${session.id}/bench`)
  void hunt()
}
</script>

<template>
  <section aria-label="Kept moves">
    <p class="row">
      <label>Of <StripSelect v-model="strip" :strips="strips" label="Track" data-test="kept-track" /></label>
      <span class="soft">{{ moves.length }} {{ moves.length === 1 ? 'move' : 'moves' }}</span>
      <input v-model="name" maxlength="120" placeholder="a name" aria-label="Name" data-test="kept-name" />
      <input v-model="remark" maxlength="2000" placeholder="a remark" aria-label="Remark" />
      <button class="plain boxed" data-test="keep-moves" :disabled="!name.trim() || !moves.length" @click="keepChosen">
        Keep
      </button>
      <label class="file soft">
        or bring in a treatment file
        <input type="file" accept=".json,application/json" aria-label="Treatment file" @change="bringIn" />
      </label>
    </p>
    <p v-if="problem" class="problem" role="alert">{{ problem }}</p>
    <p class="row find">
      <input v-model="sought" placeholder="look for" aria-label="Look for" data-test="kept-sought" />
      <select v-model="ofRole" aria-label="Role">
        <option value="">any role</option>
        <option v-for="role in about.roles" :key="role" :value="role">{{ role }}</option>
      </select>
      <label
        >amount
        <input v-model.number="amount" type="range" min="10" max="150" step="5" aria-label="Amount in per cent" />
        <span class="figures">{{ amount }} %</span></label
      >
    </p>
    <ul>
      <li v-for="one in shown" :key="one.id" data-test="kept">
        <b>{{ one.name }}</b>
        <span class="soft">
          {{ one.role }}, {{ one.treatment.moves?.length ?? 0 }}
          {{ one.treatment.moves?.length === 1 ? 'move' : 'moves' }}</span
        >
        <span v-if="one.remark" class="soft"> {{ one.remark }}</span>
        <p class="row">
          <HoldButton @hold="hear(one)" @release="hear(null)">hold: with them</HoldButton>
          <button class="plain boxed" data-test="take-kept" @click="take(one)">
            Take for {{ chosen?.name ?? 'the track' }}
          </button>
          <a :href="`/api/kept-moves/${one.id}/treatment.json`" download>as a file</a>
          <DeleteButton :what="`kept moves ${one.name}`" :bytes="() => bytesOf(one)" :remove="() => remove(one)" />
        </p>
        <p v-if="isElsewhere(one)" class="soft" data-test="kept-elsewhere">
          {{ elsewhere(one) }}
          <button class="plain" @click="lookHere">look for its own</button>
        </p>
      </li>
    </ul>
    <p v-if="!shown.length" class="soft">
      {{ listing.data.value?.length ? 'Nothing by that name or role.' : 'Nothing is kept yet.' }}
    </p>
  </section>
</template>

<style scoped>
.row {
  display: flex;
  flex-wrap: wrap;
  gap: 6px 12px;
  align-items: center;
  margin: 6px 0;
}
.find {
  padding-top: 8px;
  border-top: 1.5px solid var(--ink);
}
select,
input:not([type='range']) {
  font: inherit;
  color: inherit;
  background: var(--paper-raised);
  border: 1px solid var(--line);
  padding: 2px 5px;
  max-width: 190px;
}
.file input {
  max-width: 210px;
  border: 0;
}
ul {
  list-style: none;
  margin: 10px 0;
  padding: 0;
}
li {
  padding: 7px 0;
  border-top: 1px solid var(--line);
}
li p {
  margin: 4px 0 0;
}
a {
  color: inherit;
}
.problem {
  color: var(--vermilion);
}
</style>
