<script setup lang="ts">
/** The chosen row: its picture beside those who cover it, its evidence, and the answers with their keys. */
import { computed } from 'vue'
import { useRouter } from 'vue-router'
import HoldButton from '../components/HoldButton.vue'
import RoundPicture from '../components/RoundPicture.vue'
import type { Answer } from '../composables/useRound'
import { useRound, useSession } from '../composables/work'
import { useRead } from '../api/reads'
import { unbroken } from '../lib/figures'
import { proposed } from '../lib/round'
import RoundPlan from './RoundPlan.vue'

const { state, version, analyse, id } = useSession()
const round = useRound()
const { row } = round
const router = useRouter()

/** The columns of those who stand beside one another; what was heard before stays until it is heard anew. */
const ensemble = useRead(
  'round columns',
  () => ({ revision: version.value }),
  (_, signal) => analyse('ensemble', {}, signal, true),
  () => id,
).answer
const columns = computed(() => {
  const all = ensemble.value?.columns ?? []
  const one = row.value
  if (!one) return []
  const covering = all.find((column) => column.name === one.covered_by)?.id
  const ids = [...one.strip_ids.slice(0, 4), ...(covering ? [covering] : [])]
  return [...new Set(ids)].flatMap((wanted) => all.find((column) => column.id === wanted) ?? [])
})

const HEARD = { plain: 'plain in the mix', faint: 'faint in the mix', lost: 'lost in the mix' } as const
const heardText = computed(() => {
  const one = row.value
  if (!one?.heard || one.change_db == null) return ''
  const how = one.change_db > 0 ? ` (${one.change_db.toFixed(1)} dB without it)` : ''
  const by = one.covered_by ? `, beside it most of all ${one.covered_by}` : ''
  return `${HEARD[one.heard]}${how}${by}`
})
/** Which answers a row has, each with its key and words. */
const answers = computed<[Answer, string, string][]>(() => {
  const one = row.value
  if (!one || one.status === 'done') return []
  const later: [Answer, string, string] = ['later', 'W', one.status === 'later' ? 'judge it now' : 'later']
  if (one.deeper) return [['yes', 'X', one.proposes ?? 'deeper'], ['fine', 'D', 'as it should be'], later]
  if (one.kind === 'suspect') {
    const how = proposed(one)
    return [
      ['yes', 'X', how],
      ['tame', 'T', how === 'cut' ? 'tame instead' : 'cut instead'],
      ['no', 'K', 'wanted'],
      ['fine', 'D', 'not a fault'],
      later,
    ]
  }
  if (one.kind === 'clash') {
    const by = one.clash?.by_name ?? 'the other'
    return [['yes', 'X', `${by} gives way`], ['no', 'K', `${by} goes first`], ['fine', 'D', 'both stay'], later]
  }
  const does = {
    plan: 'take these moves',
    cellar: 'clear it',
    tracks: 'put it right',
    'comes-back': '',
    file: '',
    remark: '',
  }
  const yes: [Answer, string, string][] = does[one.kind] ? [['yes', 'X', does[one.kind]]] : []
  return [...yes, ['fine', 'D', one.kind === 'remark' ? 'seen to' : 'as it should be'], later]
})
const holds = computed(() => (row.value?.suspects?.length ? (['only', 'dip', 'lift'] as const) : []))
const HOLD_WORDS = { only: '1 the fault alone', dip: '2 without it', lift: '3 lifted' } as const

function bench() {
  if (!row.value) return
  round.toBench(row.value)
  void router.push(`/session/${state.value.id}/bench`)
}
</script>

<template>
  <section v-if="row" class="row" aria-label="The chosen row" data-test="round-chosen">
    <h2>{{ row.sentence }}</h2>
    <p class="evidence">
      {{ unbroken(row.evidence) }}<template v-if="heardText">; {{ unbroken(heardText) }}</template
      ><template v-if="row.sureness">; {{ row.sureness }}</template>
    </p>
    <p v-if="row.outcome" class="outcome" data-test="round-told">{{ unbroken(row.outcome) }}</p>
    <p v-if="row.proposes" class="soft">{{ unbroken(row.proposes) }}</p>
    <RoundPlan v-if="row.kind === 'plan' && row.status !== 'done'" />
    <div class="picture">
      <RoundPicture v-if="ensemble && columns.length" :row="row" :view="ensemble" :columns="columns" />
      <p v-else class="soft">The columns of all tracks are being listened to.</p>
    </div>
    <div v-if="holds.length || row.kind === 'tracks'" class="line">
      <span class="soft">hold to hear:</span>
      <HoldButton v-for="how in holds" :key="how" @hold="round.hear(how)" @release="round.hear(null)">{{
        HOLD_WORDS[how]
      }}</HoldButton>
      <HoldButton v-if="row.kind === 'tracks'" @hold="round.hear('dip')" @release="round.hear(null)"
        >2 put right</HoldButton
      >
    </div>
    <div class="line">
      <button
        v-for="[answer, key, words] in answers"
        :key="answer"
        class="plain boxed"
        :class="{ main: answer === 'yes' }"
        :data-test="`answer-${answer}`"
        @click="round.answer(answer)">
        <span class="figures key">{{ key }}</span> {{ words }}
      </button>
      <span class="space"></span>
      <button class="plain" @click="bench">to the bench</button>
    </div>
  </section>
  <section v-else class="row soft empty">
    <p>Choose a row, or press the arrow down: it plays, and is answered by keys. ? lists them all.</p>
  </section>
</template>

<style scoped>
.row {
  display: flex;
  flex-direction: column;
  gap: 5px;
  padding: 10px 16px;
  height: 100%;
  min-height: 0;
}
h2 {
  font-size: 1.125rem;
  margin: 0;
}
p {
  margin: 0;
}
.outcome {
  color: var(--green);
}
.picture {
  flex: 1;
  min-height: 120px;
}
.line {
  display: flex;
  flex-wrap: wrap;
  gap: 6px;
  align-items: center;
}
.key {
  color: var(--ochre);
  font-weight: 600;
}
.main {
  border-width: 2px;
  font-weight: 700;
}
.space {
  flex: 1;
}
</style>
