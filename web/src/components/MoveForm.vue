<script setup lang="ts">
/** The chosen move's figures. What there is to fill in follows from the kinds that the core describes. */
import { computed, ref } from 'vue'
import type { Figure, Move, MoveKind, ReadyStart } from '../api/client'
import {
  isShown,
  keyOf,
  numberOf,
  kindOf,
  moveOfKind,
  type Passage,
  timesWith,
  placeHz,
  startedAs,
  withFigure,
} from '../lib/moves'
import { type Place, type Run } from '../lib/places'
import DecayLine from './DecayLine.vue'
import FigureInput from './FigureInput.vue'
import PlacesFigure from './PlacesFigure.vue'
import ThresholdMeter from './ThresholdMeter.vue'

const props = defineProps<{
  move: Move
  kinds: MoveKind[]
  /** What this move can listen to: tracks and groups but its own. */
  others: { id: string; name: string }[]
  sections: Passage[]
  loop: { startS: number; endS: number } | null
  levelDb: number | null
  gainDb: number | null
  /** Whether it is learning just now, or listening until it is told to stop. */
  learning?: 'listens' | 'works' | null
}>()
const emit = defineEmits<{
  change: [move: Move, label: string]
  preview: [move: Move]
  learn: [from: 'ten-seconds' | 'until-stopped' | 'all' | Passage]
  takeOut: [figure: string, run: Run]
  keep: [figure: string, run: Run]
}>()
const FAMILIES = [
  ['static', 'Steady'],
  ['dynamic', 'Only at times'],
  ['adaptive', 'By itself'],
  ['space', 'Space'],
  ['give-back', 'Give back'],
] as const
const WORDS: Record<string, string> = {
  above: 'while it is loud',
  'after-stroke': 'after each stroke',
  sudden: 'on sudden bursts',
  both: 'both channels',
  rms: 'RMS',
  peak: 'peak',
  'in-line': 'in place of the sound',
  beside: 'beside the sound',
}

const HARDLY_S = 0.01
const MIDDLE_HZ = 632 // of the axis: where a move stands that comes from one without a place
const more = ref(false)
const kind = computed(() => kindOf(props.kinds, props.move))
const values = computed(() => props.move as unknown as Record<string, unknown>)
const inGroup = (group: Figure['group']) =>
  kind.value?.figures.filter((f) => f.group === group && isShown(f.when, props.move)) ?? []
const listens = computed(() => keyOf(props.kinds, props.move))
const shown = computed(() => [
  ...inGroup('main'),
  ...(listens.value || more.value ? inGroup('key') : []),
  ...(more.value ? inGroup('more') : []),
])
const levelFigure = computed(() => kind.value?.figures.find((f) => f.on_level) ?? null)
const gone = computed(() => listens.value !== '' && !props.others.some((other) => other.id === listens.value))

function chooseKind(event: Event) {
  const wanted = props.kinds.find((known) => known.kind === (event.target as HTMLSelectElement).value)
  const hz = placeHz(props.kinds, props.move) ?? MIDDLE_HZ
  if (wanted) emit('change', moveOfKind(wanted, hz, props.move), `Make it a ${wanted.label.toLowerCase()}`)
}

const decayS = computed(() => numberOf(props.kinds, props.move, 'decay'))
const learns = computed(() => kind.value?.figures.some((figure) => figure.control === 'places') ?? false)
const placesOf = (figure: Figure) => (values.value[figure.name] ?? []) as Place[]

/** A start of a kind that learns is learnt at once, from the loop or ten seconds. */
function startAs(start: ReadyStart) {
  emit('change', startedAs(props.move, start), `Start as: ${start.label}`)
  const loop = passages.value.find((one) => one.id === 'loop')
  if (learns.value) emit('learn', loop ?? 'ten-seconds')
}
const labelOf = (figure: Figure) => `${kind.value?.label}: ${figure.title.toLowerCase()}`
const set = (figure: Figure, value: unknown) =>
  emit('change', withFigure(props.kinds, props.move, figure.name, value), labelOf(figure))

function chosenOf(figure: Figure, event: Event) {
  const text = (event.target as HTMLSelectElement).value
  set(figure, figure.choices.find((choice) => String(choice) === text) ?? text)
}

const passages = computed(() => [
  ...(props.loop ? [{ id: 'loop', name: 'the loop', ...props.loop }] : []),
  ...props.sections,
])
const actsIn = (passage: Passage) =>
  (props.move.times_s ?? []).some(
    ([start, end]) => start <= passage.startS + HARDLY_S && end >= passage.endS - HARDLY_S,
  )
const setTimes = (times: Move['times_s'], label: string) => emit('change', { ...props.move, times_s: times }, label)
const togglePassage = (passage: Passage) =>
  setTimes(
    timesWith(props.move.times_s ?? [], passage, !actsIn(passage)),
    `${actsIn(passage) ? 'Not' : 'Only'} in ${passage.name}`,
  )

const members = computed(() => Array.from({ length: Number(values.value['count'] ?? 0) }, (_, index) => index + 1))
const leftOut = (figure: Figure) => (values.value[figure.name] ?? []) as number[]
const toggleMember = (figure: Figure, n: number) =>
  set(
    figure,
    leftOut(figure).includes(n)
      ? leftOut(figure).filter((one) => one !== n)
      : [...leftOut(figure), n].sort((a, b) => a - b),
  )
</script>

<template>
  <div class="form">
    <label class="line"
      ><span class="soft">Kind</span>
      <select class="in-line" :value="move.kind" aria-label="Kind" @change="chooseKind">
        <optgroup v-for="[family, words] in FAMILIES" :key="family" :label="words">
          <option v-for="known in kinds.filter((one) => one.family === family)" :key="known.kind" :value="known.kind">
            {{ known.label }}
          </option>
        </optgroup>
      </select>
    </label>
    <p class="sentence soft">{{ kind?.summary }}</p>
    <div v-if="kind?.starts.length" class="starts">
      <span class="soft">Start as</span>
      <button
        v-for="start in kind.starts"
        :key="start.label"
        class="plain boxed"
        :title="start.summary"
        @click="startAs(start)">
        {{ start.label }}
      </button>
    </div>
    <ThresholdMeter
      v-if="levelFigure"
      :level-db="levelDb"
      :gain-db="gainDb"
      :threshold-db="Number(values[levelFigure.name])"
      :minimum="levelFigure.minimum ?? -90"
      :maximum="levelFigure.maximum ?? 6"
      @preview="emit('preview', withFigure(kinds, move, levelFigure.name, $event))"
      @commit="set(levelFigure, $event)" />
    <p v-else-if="kind?.family === 'adaptive'" class="sentence figures" data-test="shaves">
      {{ gainDb === null ? 'plays: see what it shaves' : `shaves up to ${Math.abs(gainDb).toFixed(1)} dB just now` }}
    </p>
    <DecayLine v-if="decayS !== null" :decay-s="decayS" :delay-ms="numberOf(kinds, move, 'delay') ?? 0" />
    <div v-if="learns" class="starts" role="group" aria-label="Learn" data-test="learn">
      <span class="soft">{{ learning === 'works' ? 'learning …' : 'Learn from' }}</span>
      <button class="plain boxed" title="Ten seconds from where it plays" @click="emit('learn', 'ten-seconds')">
        10 s
      </button>
      <button
        class="plain boxed"
        :aria-pressed="learning === 'listens'"
        title="Play, and learn until you stop it"
        @click="emit('learn', 'until-stopped')">
        {{ learning === 'listens' ? 'stop' : 'until I stop' }}
      </button>
      <button v-for="passage in passages" :key="passage.id" class="plain boxed" @click="emit('learn', passage)">
        {{ passage.name }}
      </button>
      <button class="plain boxed" title="The whole song" @click="emit('learn', 'all')">all</button>
    </div>
    <template v-for="figure in shown" :key="figure.name">
      <PlacesFigure
        v-if="figure.control === 'places'"
        :title="figure.title"
        :help="figure.help"
        :places="placesOf(figure)"
        @remove="emit('takeOut', figure.name, $event)"
        @keep="emit('keep', figure.name, $event)" />
      <label v-else-if="figure.control === 'choice'" class="line" :title="figure.help"
        ><span class="soft">{{ figure.title }}</span>
        <select
          class="in-line"
          :class="{ figures: figure.unit }"
          :value="values[figure.name]"
          :aria-label="figure.title"
          @change="chosenOf(figure, $event)">
          <option v-for="choice in figure.choices" :key="choice" :value="choice">
            {{ WORDS[choice] ?? choice }} {{ figure.unit }}
          </option>
        </select>
      </label>
      <label v-else-if="figure.control === 'switch'" class="line" :title="figure.help"
        ><span></span>
        <span
          ><input
            type="checkbox"
            :checked="Boolean(values[figure.name])"
            @change="set(figure, ($event.target as HTMLInputElement).checked)" />
          {{ figure.title }}</span
        >
      </label>
      <label v-else-if="figure.control === 'listens'" class="line" :title="figure.help"
        ><span class="soft">{{ figure.title }}</span>
        <select
          class="in-line"
          :value="listens"
          :aria-label="figure.title"
          @change="set(figure, ($event.target as HTMLSelectElement).value)">
          <option value="">itself</option>
          <option v-if="gone" :value="listens">a track that is gone: hears silence</option>
          <option v-for="other in others" :key="other.id" :value="other.id">{{ other.name }}</option>
        </select>
      </label>
      <div v-else-if="figure.control === 'members'" class="line" role="group" :aria-label="figure.title">
        <span class="soft">Members</span>
        <span class="members"
          ><button
            v-for="n in members"
            :key="n"
            class="plain figures"
            :aria-pressed="!leftOut(figure).includes(n)"
            :title="`Member ${n}: ${leftOut(figure).includes(n) ? 'left out' : 'in'}`"
            @click="toggleMember(figure, n)">
            {{ n }}
          </button></span
        >
      </div>
      <FigureInput
        v-else
        :label="figure.title"
        :unit="figure.unit"
        :value="(values[figure.name] as number | null) ?? null"
        :optional="figure.optional"
        :empty="figure.empty"
        :minimum="figure.minimum ?? -Infinity"
        :maximum="figure.maximum ?? Infinity"
        :title="figure.help"
        @commit="set(figure, $event)" />
    </template>
    <div v-if="passages.length || move.times_s?.length" class="line" role="group" aria-label="Times">
      <span class="soft">Times</span>
      <span class="members" data-test="times"
        ><button
          class="plain"
          :aria-pressed="!move.times_s?.length"
          title="Acts all the time"
          @click="setTimes([], 'Always')">
          always
        </button>
        <button
          v-for="passage in passages"
          :key="passage.id"
          class="plain"
          :aria-pressed="actsIn(passage)"
          title="Acts in this passage; at its edges it fades over"
          @click="togglePassage(passage)">
          {{ passage.name }}
        </button></span
      >
    </div>
    <label
      class="line"
      title="It stands for what somebody does later: heard in the pressure test only, never rendered unasked"
      ><span></span>
      <span
        ><input
          type="checkbox"
          data-test="stand-in"
          :checked="move.stand_in"
          @change="
            emit(
              'change',
              { ...move, stand_in: !move.stand_in },
              move.stand_in ? 'Not a stand-in' : 'Make it a stand-in',
            )
          " />
        stand-in</span
      >
    </label>
    <button
      v-if="kind?.figures.some((f) => f.group !== 'main')"
      class="plain further"
      :aria-expanded="more"
      @click="more = !more">
      {{ more ? 'fewer figures' : 'more figures' }}
    </button>
  </div>
</template>

<style scoped>
.form {
  display: grid;
  grid-template-columns: minmax(0, 1fr);
  gap: 3px;
}
.line {
  display: grid;
  grid-template-columns: 4.625rem minmax(0, 1fr);
  gap: 6px;
  align-items: baseline;
}
.sentence {
  margin: 0 0 2px;
  font-size: 0.7812rem;
  line-height: 1.25;
}
.starts {
  display: flex;
  flex-wrap: wrap;
  gap: 3px;
  align-items: baseline;
  font-size: 0.7812rem;
}
.starts .plain {
  padding: 0 5px;
}
.members {
  display: flex;
  flex-wrap: wrap;
  gap: 1px;
}
.members .plain {
  padding: 0 3px;
  min-width: 1.25rem;
}
.members .plain[aria-pressed='false'] {
  text-decoration: line-through;
  opacity: 0.7;
}
.members[data-test='times'] .plain {
  font-size: 0.7812rem;
}
.members[data-test='times'] .plain[aria-pressed='false'] {
  text-decoration: none;
  opacity: 1;
}
.further {
  justify-self: start;
  padding: 0;
  text-decoration: underline;
  font-size: 0.7812rem;
}
select {
  padding: 1px 0;
  min-width: 0;
}
select option,
select optgroup {
  background: var(--paper);
}
select.figures {
  font-family: var(--figures);
  font-size: 0.86em;
}
</style>
