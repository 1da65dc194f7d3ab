<script setup lang="ts">
/** Compare the track on the bench with what it was; choose what holding on the spectrum does. */
import { computed } from 'vue'
import FigureInput from '../components/FigureInput.vue'
import HoldButton from '../components/HoldButton.vue'
import OneOf from '../components/OneOf.vue'
import { useBench, useEdits, usePlay, useSession } from '../composables/work'
import { formatDb } from '../lib/figures'
import { kindOf } from '../lib/moves'

const { chosen } = useSession()
const { ledgerHeard, matched, matchDb, offcuts, match, alone } = usePlay()
const { probeKind, zoom, showAll, kinds } = useBench()
const { toggleLedger, amount, setAmount, previewAmount, giveBack, givingBack } = useEdits()
const ADDS_ONLY = 'These moves only add to the sound: nothing is taken away that could be heard'
const addsOnly = computed(() => {
  const moves = (chosen.value?.ledger ?? []).map((entry) => entry.move).filter((move) => !move.stand_in)
  return moves.length > 0 && moves.every((move) => kindOf(kinds.value, move)?.adds_only)
})
const matchText = computed(() => {
  if (!matched.value) return 'off'
  if (!match.value) return 'measuring'
  if (match.value.before.loudness_lufs == null) return 'nothing to match'
  return formatDb(matchDb.value)
})
const AMOUNT =
  'All moves nearer to nothing, or further: back off until it is too little, forward until it is too much ' +
  '(the keys comma and full stop)'
const PROBES = [
  ['lift', 'Hold on the spectrum to lift what is under the pointer'],
  ['dip', 'Hold to take it away: what you miss then, keep with P'],
  ['only', 'Hold to hear just that slice'],
] as const
</script>

<template>
  <section class="compare" aria-label="Compare">
    <div class="row">
      <OneOf
        v-model="ledgerHeard"
        label="Before or after"
        :choices="[
          { is: false, label: 'before', title: 'Hear it without its moves (B)', test: 'before' },
          { is: true, label: 'after', title: 'Hear it with its moves (B)', test: 'after' },
        ]" />
      <HoldButton
        data-hint="offcuts"
        :aria-pressed="offcuts"
        :disabled="addsOnly"
        :title="addsOnly ? ADDS_ONLY : 'Hold to hear exactly what the moves take away (O)'"
        @hold="offcuts = true"
        @release="offcuts = false"
        >{{ addsOnly ? 'no offcuts' : 'offcuts' }}</HoldButton
      >
      <button
        class="plain boxed"
        data-test="all-off"
        :disabled="!chosen?.ledger.length"
        :aria-pressed="!chosen?.ledger_on"
        title="Switch all moves of this track off or on, for hand-over too"
        @click="toggleLedger">
        all off
      </button>
      <label class="match"
        ><input v-model="matched" type="checkbox" /> level-matched
        <span class="figures" data-test="match">{{ matchText }}</span></label
      >
    </div>
    <div class="amount" data-hint="amount">
      <label :title="AMOUNT"
        >amount
        <input
          type="range"
          min="0"
          max="150"
          step="1"
          data-test="amount"
          aria-label="amount"
          :value="amount"
          :disabled="!chosen?.ledger.length"
          @input="previewAmount(Number(($event.target as HTMLInputElement).value))"
          @change="setAmount(Number(($event.target as HTMLInputElement).value))" />
        <FigureInput
          bare
          label="Amount of all moves"
          unit="%"
          :value="amount"
          :minimum="0"
          :maximum="150"
          @commit="setAmount($event ?? 100)" />
      </label>
      <button
        class="plain boxed"
        data-test="give-back"
        :disabled="!chosen?.ledger.length"
        title="Where the cuts have left it thin or dull: warmth and air that bring half of its lows and highs back"
        @click="giveBack()">
        give back half
      </button>
      <span class="soft status" role="status" data-test="given-back" :title="givingBack">{{
        givingBack || 'of lost lows and highs'
      }}</span>
    </div>
    <p class="soft keys" data-hint="probe">
      <span>{{ alone ? 'Alone' : 'In the mix' }}, {{ ledgerHeard ? 'with' : 'without' }} its moves.</span>
      <span>
        Held:
        <button
          v-for="[kind, hint] in PROBES"
          :key="kind"
          class="plain kind"
          :aria-pressed="probeKind === kind"
          :title="hint"
          @click="probeKind = kind">
          {{ kind }}
        </button>
      </span>
      <span>
        <button class="plain" @click="zoom(1 / 1.5)">closer</button>
        <button class="plain" @click="zoom(1.5)">wider</button>
        <button class="plain" @click="showAll">show all</button>
      </span>
    </p>
  </section>
</template>

<style scoped>
.keys .kind {
  text-decoration: none;
  padding: 0 3px;
  border: 0;
}
.keys .kind[aria-pressed='true'] {
  font-weight: 700;
  color: var(--ochre);
  background: none;
  text-decoration: underline;
}
.compare {
  padding: 6px 8px 4px 12px;
  min-width: 0;
}
.row {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 8px;
  align-items: center;
  white-space: nowrap;
}
.amount {
  display: flex;
  gap: 8px;
  align-items: center;
  font-size: 0.8125rem;
  min-height: 22px;
  flex-wrap: wrap;
}
.amount input[type='range'] {
  width: 92px;
  vertical-align: middle;
  accent-color: var(--green);
}
.amount label {
  display: flex;
  gap: 6px;
  align-items: center;
  white-space: nowrap;
}
.amount :deep(.figures) {
  width: 3.25rem;
}
.status {
  min-width: 0;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.amount button {
  flex-shrink: 0;
  white-space: nowrap;
  font-size: 0.8125rem;
  padding: 0 6px;
}
.match {
  display: flex;
  gap: 4px;
  align-items: center;
  cursor: pointer;
}
.keys {
  display: flex;
  flex-wrap: wrap;
  gap: 0 14px;
  margin: 4px 0 0;
  font-size: 0.8125rem;
  line-height: 1.25;
}
.keys .plain {
  padding: 0 5px;
  text-decoration: underline;
}
</style>
