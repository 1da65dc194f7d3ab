<script setup lang="ts">
/** Likeness: drawing the balance of a track, a group or the mix towards another's, by a few ordinary moves. */
import { computed, onBeforeUnmount, ref } from 'vue'
import type { LedgerEntry } from '../api/client'
import FigureInput from '../components/FigureInput.vue'
import HoldButton from '../components/HoldButton.vue'
import LikenessPicture from '../components/LikenessPicture.vue'
import StripSelect from '../components/StripSelect.vue'
import { useRead } from '../api/reads'
import { useBench, usePlay, useSession } from '../composables/work'
import { formatDb, formatHz } from '../lib/figures'
import { addMove, lastingStripsOf } from '../lib/intents'
import { kindOf, newId, numberOf, placeHz } from '../lib/moves'

const session = useSession()
const { state, chosenId, chosen, knownChosen, version } = session
const play = usePlay()
const { kinds } = useBench()

const SLOPES = [
  [0, 'a level line (each octave as loud)'],
  [-1.5, 'a line that falls by 1.5 dB an octave'],
  [-3, 'a line that falls by 3 dB an octave'],
  [-4.5, 'a line that falls by 4.5 dB an octave'],
] as const
const towards = ref('')
const amount = ref(70)
const mostMoves = ref(6)
const limitDb = ref(6)
const lowHz = ref(60)
const highHz = ref(12_000)
const strips = computed(() => lastingStripsOf(state.value))
const others = computed(() => strips.value.filter((one) => one.id !== chosen.value?.id))

const asked = computed(() => {
  const strip = chosen.value
  if (!strip || !towards.value || towards.value === strip.id) return null
  const slope = towards.value.startsWith('slope ') ? Number(towards.value.slice(6)) : null
  return {
    strip_id: strip.id,
    towards: slope === null ? towards.value : null,
    slope_db_per_octave: slope,
    amount: amount.value,
    most_moves: mostMoves.value,
    limit_db: limitDb.value,
    low_hz: lowHz.value,
    high_hz: highHz.value,
  }
})
const { answer, problem, waiting } = useRead(
  'likeness',
  () => (asked.value ? { question: asked.value, version: version.value } : null),
  ({ question }, signal) => session.analyse('likeness', question, signal),
  () => [asked.value?.strip_id, towards.value],
)
const nameOf = computed(
  () =>
    [...strips.value, ...(state.value.references ?? [])].find((one) => one.id === towards.value)?.name ??
    SLOPES.find(([slope]) => `slope ${slope}` === towards.value)?.[1] ??
    '',
)
const entries = (): LedgerEntry[] =>
  (answer.value?.moves ?? []).map((move) => ({
    id: newId(),
    move: move as LedgerEntry['move'],
    reason: `Likeness: ${amount.value} % towards ${nameOf.value}`,
    evidence: null,
    clash: null,
  }))
const intents = () => {
  const strip = knownChosen()
  return strip ? entries().map((entry) => addMove(strip, entry)) : []
}

let held = false
async function hear(on: boolean) {
  held = on
  if (!on) {
    play.draftId.value = null
    return
  }
  const id = await session.keepDraft(intents())
  if (!held) return // let go of meanwhile
  play.draftId.value = id
  if (!play.playing.value) void play.play()
}
onBeforeUnmount(() => void hear(false))

async function take() {
  await session.edit(`Likeness towards ${nameOf.value}`, intents())
  towards.value = ''
}
</script>

<template>
  <section aria-label="Likeness">
    <p class="row">
      <label
        >Draw
        <StripSelect
          :model-value="chosen?.id ?? ''"
          :strips="strips"
          label="What is drawn"
          @update:model-value="chosenId = $event"
      /></label>
      <label
        >towards
        <select v-model="towards" aria-label="Towards" data-test="towards">
          <option value="" disabled>whom?</option>
          <option v-for="one in others" :key="one.id" :value="one.id">{{ one.name }}</option>
          <option v-for="one in state.references" :key="one.id" :value="one.id">{{ one.name }} (reference)</option>
          <option v-for="[slope, label] in SLOPES" :key="slope" :value="`slope ${slope}`">{{ label }}</option>
        </select></label
      >
    </p>
    <p class="row">
      <label
        >amount
        <input v-model.number="amount" type="range" min="10" max="100" step="5" aria-label="Amount in per cent" />
        <span class="figures">{{ amount }} %</span></label
      >
      <label
        >at most
        <select v-model.number="mostMoves" aria-label="Most moves">
          <option v-for="n in [2, 3, 4, 6, 8]" :key="n" :value="n">{{ n }}</option>
        </select>
        moves</label
      >
      <label
        >each within
        <select v-model.number="limitDb" aria-label="Limit of each move">
          <option v-for="n in [3, 6, 9, 12]" :key="n" :value="n">±{{ n }} dB</option>
        </select></label
      >
    </p>
    <p class="row">
      <FigureInput
        label="from"
        unit="Hz"
        :value="lowHz"
        :minimum="20"
        :maximum="5000"
        @commit="lowHz = $event ?? lowHz" />
      <FigureInput
        label="to"
        unit="Hz"
        :value="highHz"
        :minimum="200"
        :maximum="20000"
        @commit="highHz = $event ?? highHz" />
    </p>
    <p v-if="problem" class="problem" role="alert">{{ problem }}</p>
    <p v-else-if="waiting && !answer" class="soft" role="status">listening to both …</p>
    <template v-if="answer">
      <p class="outcome" data-test="likeness-told">
        {{ answer.distance_before_db.toFixed(1) }} dB apart; with {{ answer.moves.length }}
        {{ answer.moves.length === 1 ? 'move' : 'moves' }} {{ answer.distance_after_db.toFixed(1) }} dB
      </p>
      <p class="row">
        <HoldButton data-test="hear-likeness" :disabled="!answer.moves.length" @hold="hear(true)" @release="hear(false)"
          >hold: with them</HoldButton
        >
        <button class="plain boxed" data-test="take-likeness" :disabled="!answer.moves.length" @click="take">
          Take as moves
        </button>
      </p>
      <div class="found">
        <LikenessPicture :view="answer" />
        <ul>
          <li v-for="(move, at) in answer.moves" :key="at">
            {{ kindOf(kinds, move)?.label }} at {{ formatHz(placeHz(kinds, move) ?? 0) }},
            {{ formatDb(numberOf(kinds, move, 'gain') ?? 0) }}
          </li>
          <li v-if="!answer.moves.length" class="soft">Nothing to draw: what differs is their notes.</li>
        </ul>
      </div>
    </template>
    <p v-else class="soft">
      The balance over an octave at a time is compared where both play, so that notes are not copied; what is kept stays
      as it is.
    </p>
  </section>
</template>

<style scoped>
.row {
  display: flex;
  flex-wrap: wrap;
  gap: 6px 14px;
  align-items: center;
  margin: 8px 0;
}
.outcome {
  font-weight: 700;
}
.found {
  display: grid;
  grid-template-columns: auto 1fr;
  gap: 16px;
}
ul {
  margin: 0;
  padding-left: 18px;
  font-size: 0.875rem;
}
.problem {
  color: var(--vermilion);
}
</style>
