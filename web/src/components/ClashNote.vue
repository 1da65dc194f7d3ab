<script setup lang="ts">
/**
 * One clash; the chosen one unfolds: what it is, how it sounds, who goes first, how the other gives way, and the
 * proof.
 */
import { computed } from 'vue'
import type { ClashView, ProofView, YieldDraft } from '../api/client'
import { formatDb, formatHz, tickHz, unbroken } from '../lib/figures'
import FigureInput from './FigureInput.vue'
import HoldButton from './HoldButton.vue'
import ProofLine from './ProofLine.vue'

type Draft = YieldDraft | { refused: string }
const props = defineProps<{
  clash: ClashView
  open: boolean
  fresh: boolean
  nameOf: (id: string | null) => string
  draft: Draft | null
  proof: ProofView | null
  bandsHz: readonly number[]
  part: number
  limitDb: number | null
  isDynamic: boolean
  without: boolean
  matched: boolean
  matchDb: number
  alone: boolean
}>()
const emit = defineEmits<{
  choose: []
  hear: [ids: string[] | null]
  worst: []
  decide: [first: string | null]
  part: [part: number]
  limit: [db: number | null]
  dynamic: [is: boolean]
  accept: []
  takeBack: []
  bench: [stripId: string]
  without: [is: boolean]
  matched: [is: boolean]
  alone: [is: boolean]
}>()
const PARTS = [
  [0.25, 'a quarter'],
  [0.5, 'half'],
  [0.75, 'three quarters'],
  [1, 'all'],
] as const

const hidden = computed(() => props.nameOf(props.clash.hidden))
const region = computed(() => `${tickHz(props.clash.low_hz)} to ${tickHz(props.clash.high_hz)} Hz`)
const drafted = computed(() => (props.draft && 'entry' in props.draft ? props.draft : null))
const refused = computed(() => (props.draft && 'refused' in props.draft ? props.draft.refused : ''))
const answered = computed(() => props.clash.entry !== null)
const moveTold = computed(() => {
  const one = drafted.value
  if (!one) return ''
  const move = one.entry.move
  const deep = 'depth_db' in move ? move.depth_db : 'gain_db' in move ? move.gain_db : 0
  const q = 'q' in move ? `, Q ${move.q?.toFixed(2)}` : ''
  const key =
    'threshold_db' in move
      ? `; only while ${props.nameOf(props.clash.first)} sounds there over ${formatDb(move.threshold_db ?? 0)}FS`
      : '; always'
  const where = 'hz' in move ? formatHz(move.hz) : ''
  const middle = move.channel === 'mid' ? ', in its middle' : ''
  return `${formatDb(deep ?? 0)} at ${where}${q}${middle}${key}`
})
</script>

<template>
  <article class="clash" :class="{ open, answered }" data-test="clash" :data-hidden="hidden" :data-by="clash.by_name">
    <button class="title" :aria-expanded="open" :title="clash.sentence" @click="emit('choose')">
      <span class="who"
        ><strong>{{ hidden }}</strong> <span class="soft">hidden by</span> {{ clash.by_name }}</span
      >
      <span class="row2"
        ><span class="figures">{{ region }}</span
        ><span class="weight" :class="clash.weight">{{
          answered ? (proof?.verdict ?? 'measuring') : clash.first === null ? 'both stay' : clash.weight
        }}</span></span
      >
    </button>
    <template v-if="open">
      <p class="says first-up" data-test="sentence">{{ unbroken(`${clash.sentence}. ${clash.can_be_won}`) }}</p>
      <div class="line">
        <span class="soft">hold to hear</span>
        <HoldButton data-test="hear-hidden" @hold="emit('hear', [clash.hidden])" @release="emit('hear', null)">{{
          hidden
        }}</HoldButton>
        <template v-if="clash.by">
          <HoldButton data-test="hear-by" @hold="emit('hear', [clash.by])" @release="emit('hear', null)">{{
            clash.by_name
          }}</HoldButton>
          <HoldButton data-test="hear-both" @hold="emit('hear', [clash.hidden, clash.by])" @release="emit('hear', null)"
            >both</HoldButton
          >
        </template>
        <span class="soft">there</span>
      </div>
      <div class="line">
        <button
          class="plain boxed"
          data-test="loop-worst"
          :disabled="!clash.worst"
          title="Set the loop where it is worst, and play"
          @click="emit('worst')">
          loop where it is worst
        </button>
      </div>
      <template v-if="clash.by && !clash.same_sound">
        <fieldset>
          <legend>Who goes first here?</legend>
          <label v-for="id in [clash.hidden, clash.by]" :key="id"
            ><input
              type="radio"
              :name="`first-${clash.id}`"
              :checked="clash.first === id"
              :disabled="answered"
              data-test="first"
              @change="emit('decide', id)" />
            {{ nameOf(id) }}</label
          >
          <label
            ><input
              type="radio"
              :name="`first-${clash.id}`"
              :checked="clash.first === null"
              :disabled="answered"
              data-test="both-stay"
              @change="emit('decide', null)" />
            both stay</label
          >
        </fieldset>
        <template v-if="answered">
          <p v-if="!proof" class="soft">Measuring what it has brought …</p>
          <ProofLine
            v-else
            :proof="proof"
            :bands-hz="bandsHz"
            :front="nameOf(proof.front)"
            :yielding="nameOf(proof.strip_id)" />
          <div class="line">
            <span class="pair" role="group" aria-label="With or without this yield">
              <button
                class="plain boxed"
                data-test="yield-without"
                :aria-pressed="without"
                @click="emit('without', true)">
                without
              </button>
              <button
                class="plain boxed"
                data-test="yield-with"
                :aria-pressed="!without"
                @click="emit('without', false)">
                with
              </button>
            </span>
            <span class="pair" role="group" aria-label="Alone or in the mix">
              <button class="plain boxed" :aria-pressed="alone" data-test="pair-alone" @click="emit('alone', true)">
                the two
              </button>
              <button class="plain boxed" :aria-pressed="!alone" @click="emit('alone', false)">the mix</button>
            </span>
            <label class="match"
              ><input
                type="checkbox"
                :checked="matched"
                @change="emit('matched', ($event.target as HTMLInputElement).checked)" />
              level-matched <span class="figures">{{ matched ? formatDb(matchDb) : 'off' }}</span></label
            >
          </div>
          <div class="line">
            <button class="plain boxed" data-test="take-back" @click="emit('takeBack')">take it back</button>
            <button class="plain" @click="emit('bench', clash.entry![0])">see the move on the bench</button>
          </div>
        </template>
        <template v-else-if="clash.first !== null">
          <p class="heading">{{ nameOf(clash.yielding) }} gives way</p>
          <div class="line">
            <label
              ><span class="soft">bring back</span>
              <select
                :value="part"
                data-test="part"
                @change="emit('part', Number(($event.target as HTMLSelectElement).value))">
                <option v-for="[value, label] in PARTS" :key="value" :value="value">{{ label }}</option>
              </select>
              {{ ' ' }}<span class="soft">of what can be won,</span></label
            >
            <label class="limit"
              ><span class="soft">at most</span>
              <FigureInput
                bare
                label="At most, in dB"
                unit=""
                :value="limitDb ?? drafted?.limit_db ?? 4"
                :minimum="0.1"
                :maximum="24"
                @commit="emit('limit', $event)" />
              dB</label
            >
          </div>
          <div class="line">
            <label
              ><input type="radio" :name="`dynamic-${clash.id}`" :checked="isDynamic" @change="emit('dynamic', true)" />
              only while the other sounds</label
            >
            <label
              ><input
                type="radio"
                :name="`dynamic-${clash.id}`"
                :checked="!isDynamic"
                @change="emit('dynamic', false)" />
              always</label
            >
          </div>
          <p v-if="refused" class="refused">{{ refused }}</p>
          <p v-else-if="!drafted || !fresh" class="soft">drafting the least that does it …</p>
          <template v-else>
            <p class="says figures" data-test="draft">{{ moveTold }}</p>
            <p class="soft says">
              It should bring back {{ Math.round(drafted.regained_percent) }} % of what can be won, and cost
              {{ nameOf(drafted.strip_id) }} {{ Math.round(drafted.costs_percent) }} % of its loudness while both play.
              <template v-if="drafted.capped && drafted.regained_percent < 100 * part - 1"
                >More would take over {{ drafted.limit_db }} dB: go further above, if it is worth it.</template
              >
            </p>
            <button class="plain boxed yes" data-test="accept" @click="emit('accept')">
              let {{ nameOf(drafted.strip_id) }} give way
            </button>
          </template>
        </template>
      </template>
      <p v-else-if="!clash.by" class="soft says">
        Many tracks together do this: no single one can decide it. Thin out several, or raise {{ hidden }}.
      </p>
    </template>
  </article>
</template>

<style scoped>
.clash {
  border-bottom: 1px solid var(--line);
  padding: 3px 10px 3px 12px;
  position: relative;
}
.clash::before {
  content: '';
  position: absolute;
  left: 0;
  top: 5px;
  bottom: 5px;
  width: 5px;
  background: repeating-linear-gradient(135deg, var(--slate) 0 2px, transparent 2px 5px);
}
.answered::before {
  background: var(--green);
}
.open {
  background: var(--paper-raised);
  padding-bottom: 8px;
}
.title {
  width: 100%;
  display: block;
  border: 0;
  padding: 2px 0;
  background: none;
  color: inherit;
  font: inherit;
  text-align: left;
  cursor: pointer;
}
.who {
  display: block;
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}
.row2 {
  display: flex;
  justify-content: space-between;
  font-size: 13px;
}
.weight {
  color: var(--slate);
}
.weight.strong {
  font-weight: 700;
}
.says {
  margin: 3px 0;
  line-height: 1.3;
  font-size: 13.5px;
}
.figures.says {
  font-size: 12px;
}
.line {
  display: flex;
  gap: 5px;
  align-items: center;
  flex-wrap: wrap;
  margin: 4px 0;
  font-size: 13px;
}
.line .plain {
  font-size: 13px;
  padding: 1px 6px;
}
.pair {
  display: inline-flex;
}
.pair .plain + .plain {
  margin-left: -1px;
}
fieldset {
  border: 1px solid var(--line);
  margin: 5px 0;
  padding: 2px 8px 4px;
  font-size: 13px;
  display: flex;
  gap: 10px;
  flex-wrap: wrap;
}
legend {
  padding: 0 4px;
  color: var(--ink-soft);
}
.first-up::first-letter {
  text-transform: uppercase;
}
label {
  cursor: pointer;
}
.limit {
  display: inline-flex;
  gap: 4px;
  align-items: baseline;
}
.limit :deep(.figure.bare),
.limit :deep(.figure.bare input) {
  width: 46px;
  grid-template-columns: 46px;
}
select {
  font: inherit;
  color: var(--ink);
  background: transparent;
  border: 0;
  border-bottom: 1px solid var(--ink-soft);
}
option {
  background: var(--paper);
}
.heading {
  margin: 6px 0 0;
  font-weight: 700;
}
.yes {
  font-weight: 700;
  border-width: 2px !important;
  margin-top: 3px;
}
.refused {
  color: var(--vermilion);
  margin: 3px 0;
}
</style>
