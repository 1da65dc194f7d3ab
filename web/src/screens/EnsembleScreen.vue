<script setup lang="ts">
/** The Ensemble: see who hides whom, say who goes first, let the other give way, and see what came of it. */
import { useBench, useEnsemble, useSession } from '../composables/work'
import { onBeforeUnmount, onMounted, ref } from 'vue'
import { useRouter } from 'vue-router'
import MixCompare from '../components/MixCompare.vue'
import MoveRegister from '../components/MoveRegister.vue'
import TreatmentWord from '../panels/TreatmentWord.vue'
import ClashList from '../panels/ClashList.vue'
import EnsembleStage from '../panels/EnsembleStage.vue'
import type { RegisteredMove } from '../lib/ensemble'
import { setMove, stripOf } from '../lib/intents'

const router = useRouter()
const { about, state, known, chosenId, edit } = useSession()
const { entryId } = useBench()
const { allTogether, allMovesOff, comparison, matched, matchDb, enter, leave, letGo } = useEnsemble()

const TABS = [
  ['clashes', 'clashes'],
  ['moves', 'all moves'],
  ['mix', 'before and after'],
] as const
const tab = ref<'clashes' | 'moves' | 'mix'>('clashes')

function showTab(which: typeof tab.value) {
  tab.value = which
  allTogether.value = which === 'mix'
  if (which !== 'mix') allMovesOff.value = false
}

function toggle({ stripId, entry }: RegisteredMove) {
  const strip = stripOf(known.value, stripId)
  const on = entry.move.on === false
  if (!strip) return
  const label = `${on ? 'Switch on' : 'Switch off'} a move of ${strip.name}`
  void edit(label, [setMove(strip, entry.id, { ...entry.move, on })])
}

function toBench(stripId: string, inLedger: string | null) {
  chosenId.value = stripId
  void router.push(`/session/${state.value.id}/bench`).then(() => (entryId.value = inLedger))
}

onMounted(() => {
  enter()
  window.addEventListener('blur', letGo)
})
onBeforeUnmount(() => {
  leave()
  allTogether.value = false
  window.removeEventListener('blur', letGo)
})
</script>

<template>
  <div class="ensemble">
    <EnsembleStage />
    <section class="side">
      <div class="tabs" role="tablist">
        <button
          v-for="[name, label] in TABS"
          :key="name"
          role="tab"
          :aria-selected="tab === name"
          :data-test="`tab-${name}`"
          @click="showTab(name)">
          {{ label }}
        </button>
        <TreatmentWord />
      </div>
      <ClashList v-if="tab === 'clashes'" @bench="toBench" />
      <MoveRegister
        v-else-if="tab === 'moves'"
        :session="state"
        :kinds="about.kinds"
        @toggle="toggle"
        @show="toBench($event.stripId, $event.entry.id)" />
      <MixCompare
        v-else
        :comparison="comparison"
        :off="allMovesOff"
        :matched="matched"
        :match-db="matchDb"
        @off="allMovesOff = $event"
        @matched="matched = $event" />
    </section>
  </div>
</template>

<style scoped>
.ensemble {
  height: 100%;
  display: grid;
  grid-template-columns: minmax(0, 1fr) 366px;
}
.side {
  display: flex;
  flex-direction: column;
  min-height: 0;
  min-width: 0;
}
.tabs {
  display: flex;
  align-items: center;
  min-height: 38px;
  flex-wrap: wrap;
  border-bottom: 1px solid var(--line);
  flex: none;
  padding: 0 6px;
}
.tabs button {
  font: inherit;
  color: inherit;
  background: none;
  border: 0;
  border-bottom: 3px solid transparent;
  padding: 0 9px;
  align-self: stretch;
  cursor: pointer;
}
.tabs button[aria-selected='true'] {
  border-bottom-color: var(--ink);
  font-weight: 700;
}
</style>
