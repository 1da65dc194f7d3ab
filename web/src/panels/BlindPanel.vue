<script setup lang="ts">
/** A blind check before it begins, and what earlier ones showed. */
import { computed } from 'vue'
import type { BlindCheck } from '../api/client'
import OneOf from '../components/OneOf.vue'
import StripSelect from '../components/StripSelect.vue'
import { useBench, useBlind, usePlay, useSession } from '../composables/work'
import { formatHz, formatTime } from '../lib/figures'
import { lastingStripsOf } from '../lib/intents'
import { kindOf, placeHz } from '../lib/moves'

const { state, chosenId, chosen, treatment } = useSession()
const strip = computed({ get: () => chosen.value?.id ?? '', set: (id) => (chosenId.value = id) })
const { alone, against } = usePlay()
const { kinds, loop } = useBench()
const blind = useBlind()
const { asks, what, entryId, nTrials, matched, asked, problem, beginning, results } = blind

const ASKS = [
  ['hear', 'Do I hear it?', 'X is A or B: which one?'],
  ['better', 'Which is better?', 'pairs on random sides, and whether the votes agree'],
  ['least', 'The least that is heard', 'how little of a move is still heard'],
] as const
const strips = computed(() => lastingStripsOf(state.value))
const moves = computed(() => chosen.value?.ledger.filter((one) => !one.move.stand_in) ?? [])
const moveText = (entry: (typeof moves.value)[number]) => {
  const hz = placeHz(kinds.value, entry.move)
  return `${kindOf(kinds.value, entry.move)?.label ?? entry.move.kind}${hz === null ? '' : ` at ${formatHz(hz)}`}`
}
const whats = computed(() => [
  ['one-move', 'one move'],
  ['strip', `all moves of ${chosen.value?.name ?? 'the track'}`],
  ['all-moves', 'all moves of the session'],
  ['stand-ins', 'what stands for later'],
  ...(against.value ? [['treatments', `${treatment.value} and ${against.value}`]] : []),
])
const LOOP_S = 1
const loopText = computed(() => {
  if (!loop.value) return 'Over the whole song; a loop of some seconds is easier to judge.'
  const seconds = loop.value.endS - loop.value.startS
  if (seconds < LOOP_S) return `The loop is ${seconds.toFixed(2)} s long; it has to be 1 s or longer.`
  return `Over the loop, ${formatTime(loop.value.startS)} to ${formatTime(loop.value.endS)}.`
})
function ofWhat(check: BlindCheck): string {
  const { compared, strip_id, treatment: letter } = check.asked
  const strip = strips.value.find((one) => one.id === strip_id)
  const name = strip?.name ?? 'a track that is gone'
  if (compared.what === 'treatments') return `${letter} and ${compared.other}`
  if (compared.what === 'all-moves') return 'all moves'
  if (compared.what === 'stand-ins') return 'what stands for later'
  if (compared.what === 'strip') return `${name}, its moves`
  const entry = strip?.ledger.find((one) => one.id === compared.entry_id)
  return `${name}, ${entry ? moveText(entry).toLowerCase() : 'a move that is gone'}`
}
</script>

<template>
  <section aria-label="Blind check">
    <fieldset>
      <legend class="unseen">Question</legend>
      <label v-for="[value, label, hint] in ASKS" :key="value" class="choice">
        <input v-model="asks" type="radio" name="asks" :value="value" :data-test="`asks-${value}`" />
        <b>{{ label }}</b> <span class="soft">{{ hint }}</span>
      </label>
    </fieldset>
    <p class="row">
      <label
        >of
        <select v-model="what" aria-label="Of what" data-test="blind-what">
          <option
            v-for="[value, label] in whats"
            :key="value"
            :value="value"
            :disabled="asks === 'least' && value !== 'one-move'">
            {{ label }}
          </option>
        </select></label
      >
      <label>on <StripSelect v-model="strip" :strips="strips" label="Track" data-test="blind-track" /></label>
      <select v-if="what === 'one-move'" v-model="entryId" aria-label="Move" data-test="blind-move">
        <option :value="null" disabled>which move?</option>
        <option v-for="one in moves" :key="one.id" :value="one.id">{{ moveText(one) }}</option>
      </select>
    </p>
    <p class="row">
      <OneOf
        v-model="alone"
        label="Heard"
        :choices="[
          { is: true, label: 'alone' },
          { is: false, label: 'in the mix' },
        ]" />
      <label v-if="asks !== 'least'"
        ><select v-model.number="nTrials" aria-label="Trials" data-test="blind-trials">
          <option v-for="n in [5, 8, 10, 12, 16, 20]" :key="n" :value="n">{{ n }}</option>
        </select>
        trials</label
      >
      <span v-else class="soft">at most 40 trials</span>
      <label
        ><input v-model="matched" type="checkbox" data-test="blind-matched" /> equally loud
        <span class="soft" title="A deep cut, made as loud again, lifts all else: then that is what is heard."
          >(off: on purpose)</span
        ></label
      >
    </p>
    <p class="soft">{{ loopText }}</p>
    <p>
      <button class="plain boxed begin" :disabled="!asked || beginning" data-test="begin-blind" @click="blind.begin">
        {{ beginning ? 'measuring how loud both are …' : 'Begin' }}
      </button>
    </p>
    <p v-if="problem" class="problem" role="alert">{{ problem }}</p>
    <template v-if="results.length">
      <h3>What was found</h3>
      <dl data-test="blind-results">
        <template v-for="one in results" :key="one.id">
          <dt>{{ ofWhat(one) }}</dt>
          <dd>
            {{ one.result?.sentence }}
            <button v-if="one.result?.offered" class="plain" data-test="take-least" @click="blind.takeOffered(one)">
              give it that depth
            </button>
          </dd>
        </template>
      </dl>
    </template>
  </section>
</template>

<style scoped>
h3 {
  margin: 14px 0 4px;
  font-size: 0.9375rem;
}
fieldset {
  border: 0;
  margin: 8px 0;
  padding: 0;
  display: grid;
  gap: 4px;
}
.row {
  display: flex;
  flex-wrap: wrap;
  gap: 6px 12px;
  align-items: center;
  margin: 8px 0;
}
.begin {
  font-weight: 700;
  padding: 6px 18px;
}
.problem {
  color: var(--vermilion);
}
dl {
  margin: 0;
}
dt {
  font-weight: 700;
  margin-top: 6px;
}
dd {
  margin: 0 0 0 18px;
  font-size: 0.875rem;
}
</style>
