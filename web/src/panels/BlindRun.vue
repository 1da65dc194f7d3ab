<script setup lang="ts">
/** A blind check under way: three large places to press, and nothing else; at the end, what it showed. */
import { computed, onBeforeUnmount, onMounted } from 'vue'
import type { BlindCheck } from '../api/client'
import { useBlind, usePlay } from '../composables/work'
import { isTyping } from '../lib/keys'

const blind = useBlind()
const { running, pressed, problem } = blind
const play = usePlay()
const check = computed(() => running.value as BlindCheck)
const places = computed(() => (check.value.asked.asks === 'hear' ? (['A', 'X', 'B'] as const) : (['A', 'B'] as const)))
const ANSWERS = {
  hear: ['X is A', 'X is B'],
  better: ['A is better', 'B is better'],
  least: ['A has the move', 'B has the move'],
} as const
const answers = computed(() => ANSWERS[check.value.asked.asks])
const title = computed(() => {
  const { n_answered, n_most, asked } = check.value
  return asked.asks === 'least' ? `trial ${n_answered + 1}, ${n_most} at most` : `trial ${n_answered + 1} of ${n_most}`
})

function key(event: KeyboardEvent) {
  if (isTyping(event) || event.ctrlKey || event.metaKey || event.altKey || event.repeat) return
  const place = places.value.find((one) => one === event.key.toUpperCase())
  if (check.value.result) {
    if (event.key === 'Escape' || event.key === 'Enter') blind.leave()
  } else if (place) blind.press(place)
  else if (event.key === '1') void blind.say('A')
  else if (event.key === '2') void blind.say('B')
  else if (event.key === 'Escape') blind.leave()
  else if (event.code === 'Space' && !(event.target instanceof HTMLButtonElement)) play.toggle()
}
onMounted(() => window.addEventListener('keydown', key))
onBeforeUnmount(() => window.removeEventListener('keydown', key))
</script>

<template>
  <div class="run" data-test="blind-run">
    <template v-if="!check.result">
      <p class="soft">{{ title }}</p>
      <div class="places" role="group" aria-label="Hear">
        <button
          v-for="one in places"
          :key="one"
          class="plain place"
          :aria-pressed="pressed === one"
          :data-test="`press-${one}`"
          @click="blind.press(one)">
          {{ one }}
        </button>
      </div>
      <div class="answers" role="group" aria-label="Answer">
        <button class="plain boxed" data-test="say-A" @click="blind.say('A')">
          <span class="figures key">1</span> {{ answers[0] }}
        </button>
        <button class="plain boxed" data-test="say-B" @click="blind.say('B')">
          <span class="figures key">2</span> {{ answers[1] }}
        </button>
      </div>
      <p v-if="problem" class="problem" role="alert">{{ problem }}</p>
      <p><button class="plain soft" @click="blind.leave">leave it</button></p>
    </template>
    <template v-else>
      <p class="found" data-test="blind-found">{{ check.result.sentence }}</p>
      <p><button class="plain boxed" data-test="blind-done" @click="blind.leave">Done</button></p>
    </template>
  </div>
</template>

<style scoped>
.run {
  height: 100%;
  display: grid;
  place-content: center;
  justify-items: center;
  gap: 22px;
  text-align: center;
}
.places {
  display: flex;
  gap: 34px;
}
.place {
  width: 190px;
  height: 190px;
  font-size: 5.25rem;
  font-weight: 700;
  color: var(--ink);
  background: var(--paper-raised);
  border: 1.5px solid var(--line);
}
.place[aria-pressed='true'] {
  border: 4px solid var(--ochre);
  color: var(--ink);
  background: var(--paper-raised);
}
.answers {
  display: flex;
  gap: 24px;
}
.answers button {
  padding: 8px 20px;
  font-size: 1.0625rem;
}
.key {
  color: var(--ochre);
  font-weight: 600;
}
.found {
  max-width: 640px;
  font-size: 1.3125rem;
  line-height: 1.4;
}
.problem {
  color: var(--vermilion);
}
</style>
