<script setup lang="ts">
/** The treatments: their names, what another one does otherwise, and what can be done with them. */
import { computed } from 'vue'
import type { Strip, Treatment } from '../api/client'
import { usePlay, useSession, useTreatments } from '../composables/work'
import { stripsOf } from '../lib/intents'

const { treatment, state } = useSession()
const { against } = usePlay()
const treatments = useTreatments()
const { list, several, free, differences, sides, ready, problem } = treatments

const ledgerOf = (strip: Strip, letter: Treatment) =>
  (letter === treatment.value ? strip.ledger : strip.variants?.[letter]?.ledger) ?? []
const nMoves = (letter: Treatment) =>
  stripsOf(state.value).flatMap((strip) => ledgerOf(strip, letter).filter((one) => !one.move.stand_in)).length
const others = computed(() => list.value.filter((one) => one.letter !== treatment.value))
const besideText = computed(() => {
  if (!sides.value) return ''
  return ready.value ? 'a switch is heard at once, equally loud' : 'play, and it is made ready'
})
</script>

<template>
  <section aria-label="Treatments">
    <h2>Treatments</h2>
    <p class="soft">
      Other ways to treat the same session. Sound, faders and sections are shared; moves, amounts and phases are not.
    </p>
    <ul class="treatments">
      <li v-for="one in list" :key="one.letter" :class="{ now: one.letter === treatment }">
        <button
          class="plain letter"
          :aria-pressed="one.letter === treatment"
          :title="`Hear and work on ${one.letter}`"
          :data-test="`go-${one.letter}`"
          @click="treatments.go(one.letter)">
          {{ one.letter }}
        </button>
        <input
          class="name"
          :value="one.name"
          maxlength="60"
          placeholder="a name"
          :aria-label="`Name of treatment ${one.letter}`"
          @change="treatments.rename(one.letter, ($event.target as HTMLInputElement).value)" />
        <span class="figures soft">{{ nMoves(one.letter) }} {{ nMoves(one.letter) === 1 ? 'move' : 'moves' }}</span>
        <span class="acts">
          <button
            v-if="several"
            class="plain"
            :title="`${one.letter} becomes A, the others go; undo brings them back`"
            :data-test="`keep-${one.letter}`"
            @click="treatments.keep(one.letter)">
            keep only this
          </button>
          <button v-if="one.letter !== 'A'" class="plain" @click="treatments.remove(one.letter)">take out</button>
        </span>
      </li>
    </ul>
    <p v-if="free" class="make">
      <span class="soft">Make {{ free }}</span>
      <button class="plain boxed" data-test="make-copy" @click="treatments.makeOf(treatment)">
        from {{ treatment }}
      </button>
      <button class="plain boxed" data-test="make-empty" @click="treatments.makeEmpty">from nothing</button>
      <button class="plain boxed" data-test="make-proposed" @click="treatments.makeProposed">
        from what Mivlo proposes
      </button>
    </p>
    <p v-if="problem" class="problem" role="alert">{{ problem }}</p>
    <template v-if="several">
      <p class="beside">
        <label
          >{{ treatment }} beside
          <select v-model="against" aria-label="Compared with" data-test="against">
            <option :value="null">nothing</option>
            <option v-for="one in others" :key="one.letter" :value="one.letter">
              {{ one.letter }}{{ one.name ? `, ${one.name}` : '' }}
            </option>
          </select></label
        >
        <span class="soft" role="status" data-test="beside-told">{{ besideText }}</span>
      </p>
      <template v-if="differences">
        <h3>What {{ treatment }} does otherwise than {{ against }}</h3>
        <p v-if="!differences.length" class="soft" data-test="alike">Nothing: both are alike.</p>
        <dl data-test="differences">
          <template v-for="one in differences" :key="one.strip_id">
            <dt>
              {{ one.name }}
              <button
                class="plain"
                :title="`Take over ${one.name} from ${treatment}`"
                @click="against && treatments.copy(treatment, against, [one.strip_id], one.name)">
                also in {{ against }}
              </button>
              <button
                class="plain"
                :title="`Take over ${one.name} from ${against}`"
                @click="against && treatments.copy(against, treatment, [one.strip_id], one.name)">
                as in {{ against }}
              </button>
            </dt>
            <dd v-for="sentence in one.sentences" :key="sentence">{{ sentence }}</dd>
          </template>
        </dl>
      </template>
    </template>
  </section>
</template>

<style scoped>
h2 {
  margin: 0 0 4px;
  font-size: 1.1875rem;
}
h3 {
  margin: 14px 0 4px;
  font-size: 0.9375rem;
}
.treatments {
  list-style: none;
  margin: 12px 0;
  padding: 0;
}
.treatments li {
  display: grid;
  grid-template-columns: 40px minmax(0, 1fr) 84px 190px;
  gap: 10px;
  align-items: center;
  padding: 5px 0;
  border-bottom: 1px solid var(--line);
}
.letter {
  font-size: 1.25rem;
  font-weight: 700;
  border: 1.5px solid var(--line);
  border-radius: 5px 5px 0 0;
  border-bottom-width: 0;
  background: var(--paper-sunk);
  color: var(--ink);
}
.now .letter {
  border-color: var(--ink);
  background: var(--paper-raised);
  color: var(--ink);
}
.name,
select {
  min-width: 0;
}
.acts {
  display: flex;
  gap: 8px;
}
.make,
.beside {
  display: flex;
  flex-wrap: wrap;
  gap: 6px 10px;
  align-items: center;
  margin: 10px 0;
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
dt button {
  font-weight: 400;
  font-size: 0.8125rem;
}
dd {
  margin: 0 0 0 18px;
  font-size: 0.875rem;
}
</style>
