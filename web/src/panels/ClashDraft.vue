<script setup lang="ts">
/** How one track could give way to another: the least that does it, drafted by the core; it waits for a yes. */
import { computed } from 'vue'
import type { ClashView } from '../api/client'
import FigureInput from '../components/FigureInput.vue'
import { useEnsemble, useSession } from '../composables/work'
import { formatDb, formatHz } from '../lib/figures'
import { kindOf, numberOf } from '../lib/moves'

const props = defineProps<{ clash: ClashView }>()
const { fresh, nameOf, draft, part, limitDb, isDynamic, accept } = useEnsemble()
const { about } = useSession()
const PARTS = [
  [0.25, 'a quarter'],
  [0.5, 'half'],
  [0.75, 'three quarters'],
  [1, 'all'],
] as const

const asked = computed(() => (draft.value?.of === props.clash.id ? draft.value : null))
const drafted = computed(() => (asked.value && 'entry' in asked.value ? asked.value : null))
const refused = computed(() => (asked.value && 'refused' in asked.value ? asked.value.refused : ''))
const moveText = computed(() => {
  const one = drafted.value
  if (!one) return ''
  const move = one.entry.move
  const { kinds } = about.value
  const [deep, width, hz] = (['gain', 'width', 'place'] as const).map((meaning) => numberOf(kinds, move, meaning))
  const level = kindOf(kinds, move)?.figures.find((figure) => figure.on_level)
  const overDb = level && (move as unknown as Record<string, number>)[level.name]
  const q = width == null ? '' : `, Q ${width.toFixed(2)}`
  const key =
    overDb === undefined
      ? '; always'
      : `; only while ${nameOf(props.clash.first)} sounds there over ${formatDb(overDb)}FS`
  const middle = move.channel === 'mid' ? ', in its middle' : ''
  return `${formatDb(deep ?? 0)} at ${hz == null ? '' : formatHz(hz)}${q}${middle}${key}`
})
</script>

<template>
  <p class="heading">{{ nameOf(clash.yielding) }} gives way</p>
  <div class="line">
    <label
      ><span class="soft">bring back</span>
      <select
        class="in-line"
        :value="part"
        data-test="part"
        @change="part = Number(($event.target as HTMLSelectElement).value)">
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
        @commit="limitDb = $event" />
      dB</label
    >
  </div>
  <div class="line">
    <label
      ><input type="radio" :name="`dynamic-${clash.id}`" :checked="isDynamic" @change="isDynamic = true" /> only while
      the other sounds</label
    >
    <label
      ><input type="radio" :name="`dynamic-${clash.id}`" :checked="!isDynamic" @change="isDynamic = false" />
      always</label
    >
  </div>
  <p v-if="refused" class="refused">{{ refused }}</p>
  <p v-else-if="!drafted || !fresh" class="soft">drafting the least that does it …</p>
  <template v-else>
    <p class="sentence figures" data-test="draft">{{ moveText }}</p>
    <p class="soft sentence">
      It should bring back {{ Math.round(drafted.regained_percent) }} % of what can be won, and cost
      {{ nameOf(drafted.strip_id) }} {{ Math.round(drafted.costs_percent) }} % of its loudness while both play.
      <template v-if="drafted.capped && drafted.regained_percent < 100 * part - 1"
        >More would take over {{ drafted.limit_db }} dB: go further above, if it is worth it.</template
      >
    </p>
    <button class="plain boxed yes" data-test="accept" @click="accept">
      let {{ nameOf(drafted.strip_id) }} give way
    </button>
  </template>
</template>

<style scoped>
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
