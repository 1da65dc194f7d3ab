<script setup lang="ts">
/** The round: the whole session in one list, first what is heard in the mix, worked through by keyboard and ear. */
import { computed, onBeforeUnmount, onMounted } from 'vue'
import HoldButton from '../components/HoldButton.vue'
import TreatmentWord from '../panels/TreatmentWord.vue'
import { SURE } from '../composables/useRound'
import { usePlay, useRound, useSession } from '../composables/work'
import { stripOf } from '../lib/intents'
import { isTyping } from '../lib/keys'
import RoundList from '../panels/RoundList.vue'
import RoundRowView from '../panels/RoundRowView.vue'

const round = useRound()
const play = usePlay()
const { state } = useSession()
const { counts, view, order, sure, leastSure, report, problem } = round

const KEYS: Record<string, () => void> = {
  ArrowDown: () => round.step(1),
  ArrowUp: () => round.step(-1),
  n: () => round.step(1),
  N: () => round.step(-1),
  x: () => void round.answer('yes'),
  t: () => void round.answer('tame'),
  k: () => void round.answer('no'),
  d: () => void round.answer('fine'),
  w: () => void round.answer('later'),
  s: () => void round.draftSure(),
  p: () => void round.hearPlan(!round.planHeard.value),
  ',': () => round.setPlanned(round.planned.value - 1),
  '.': () => round.setPlanned(round.planned.value + 1),
  b: () => before(true),
}
const HOLDS = { 1: 'only', 2: 'dip', 3: 'lift' } as const

/** The whole mix before all moves, as loud as after them. */
function before(on: boolean) {
  play.together.value = on
    ? { heardIds: [], compares: 'all-moves', entryId: null, without: true, matched: true, slices: [] }
    : null
}

function keyDown(event: KeyboardEvent) {
  if (isTyping(event) || event.ctrlKey || event.metaKey || event.altKey || event.repeat) return
  const hold = HOLDS[event.key as unknown as keyof typeof HOLDS]
  if (hold) return round.hear(hold)
  const act = KEYS[event.key]
  if (!act) return
  if (event.key.startsWith('Arrow')) event.preventDefault()
  act()
}
function keyUp(event: KeyboardEvent) {
  if (event.key in HOLDS) round.hear(null)
  if (event.key === 'b') before(false)
}
function letGo() {
  round.hear(null)
  before(false)
}
onMounted(() => {
  round.enter()
  window.addEventListener('keydown', keyDown)
  window.addEventListener('keyup', keyUp)
  window.addEventListener('blur', letGo)
})
onBeforeUnmount(() => {
  window.removeEventListener('keydown', keyDown)
  window.removeEventListener('keyup', keyUp)
  window.removeEventListener('blur', letGo)
  letGo()
  round.leave()
})

const waiting = computed(() => {
  const now = view.value
  if (!now) return 'reading what is known …'
  return now.waiting ? `listening: ${now.of - now.waiting} of ${now.of} heard` : ''
})
const reportedTracks = computed(() =>
  report.value.stripIds.map((id) => stripOf(state.value, id)?.name ?? '').join(', '),
)
</script>

<template>
  <div class="round">
    <div class="left">
      <header>
        <span data-test="round-counts"
          ><b>{{ counts.toJudge }}</b> to judge, <b>{{ counts.done }}</b> done, <b>{{ counts.later }}</b> later</span
        >
        <TreatmentWord />
        <span class="soft" role="status" data-test="round-waiting">{{ waiting }}</span>
        <span class="space"></span>
        <label class="soft"
          >first
          <select v-model="order" aria-label="Order of the rows" data-test="round-order">
            <option value="heard">what is heard</option>
            <option value="track">by track</option>
          </select></label
        >
      </header>
      <RoundList />
      <footer>
        <button class="plain boxed" :disabled="!sure.length" data-test="draft-sure" @click="round.draftSure">
          <span class="figures key">S</span> draft {{ sure.length }} that {{ sure.length === 1 ? 'is' : 'are' }}
        </button>
        <select v-model.number="leastSure" aria-label="How sure" data-test="how-sure">
          <option v-for="[least, words] in SURE" :key="least" :value="least">{{ words }}</option>
        </select>
        <HoldButton
          title="Hold: the whole mix before all moves, as loud (B)"
          @hold="before(true)"
          @release="before(false)"
          >mix before</HoldButton
        >
        <span class="soft report" role="status" data-test="round-report" :title="reportedTracks">{{
          report.text
        }}</span>
        <span v-if="view?.folded_clashes" class="soft" title="Clashes that the plan answers, or that are slight"
          >{{ view.folded_clashes }} clashes folded</span
        >
      </footer>
      <p v-if="problem" class="problem" role="alert">{{ problem }}</p>
    </div>
    <RoundRowView class="right" />
  </div>
</template>

<style scoped>
.round {
  display: grid;
  grid-template-columns: minmax(0, 11fr) minmax(0, 12fr);
  height: 100%;
  min-height: 0;
}
.left {
  display: flex;
  flex-direction: column;
  min-height: 0;
  border-right: 1.5px solid var(--ink);
}
header,
footer {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 12px;
  align-items: center;
  padding: 7px 12px;
}
header {
  border-bottom: 1.5px solid var(--ink);
}
footer {
  border-top: 1px solid var(--line);
  font-size: 0.875rem;
}
.space {
  flex: 1;
}
.key {
  color: var(--ochre);
  font-weight: 600;
}
.problem {
  margin: 0;
  padding: 4px 12px;
  color: var(--vermilion);
}
</style>
