<script setup lang="ts">
/** References: mixes of others beside ours, equally loud; never in it. */
import { computed, onBeforeUnmount, onMounted, useTemplateRef } from 'vue'
import type { Reference } from '../api/client'
import FigureInput from '../components/FigureInput.vue'
import HoldButton from '../components/HoldButton.vue'
import NoteRuler from '../components/NoteRuler.vue'
import SpectrumLane from '../components/SpectrumLane.vue'
import { usePlay, useReferences, useSession } from '../composables/work'
import { wholeAxis } from '../lib/axis'
import { formatDb, formatTime } from '../lib/figures'

const { lengthOf } = useSession()
const { rate, match, alone } = usePlay()
const references = useReferences()
const { list, picked, incoming, problem, compared, comparing, heard } = references

const picker = useTemplateRef<HTMLInputElement>('picker')
function choose(event: Event) {
  const input = event.target as HTMLInputElement
  void references.add(input.files)
  input.value = ''
}
const lengthS = (one: Reference) => lengthOf(one.audio_id) / rate.value
const rename = (one: Reference, name: string) =>
  name.trim() && name !== one.name && references.set(one, { name: name.trim() }, 'Name')
const lufs = (value: number | null | undefined) =>
  value == null ? 'silent there' : `${value.toFixed(1).replace('-', '−')} LUFS`
const summary = computed(() => {
  const now = compared.value
  if (!now) return ''
  const { match_before_db: theirs, match_after_db: ours } = now.match
  const whose = theirs < ours ? 'the reference is turned down' : 'ours is turned down'
  const by = Math.abs(theirs - ours)
  const loudness = `Ours ${lufs(now.after.loudness_lufs)}, the reference ${lufs(now.before.loudness_lufs)}`
  return `${loudness}; to hear both equally loud, ${whose} by ${by.toFixed(1)} dB.`
})
/** It is the whole mix that is heard beside it, as it is the whole mix that is drawn. */
const wasAlone = alone.value
onMounted(() => {
  alone.value = false
  references.stay(true)
})
onBeforeUnmount(() => {
  alone.value = wasAlone
  references.stay(false)
})
</script>

<template>
  <section aria-label="References">
    <p>
      <button class="plain boxed" @click="picker?.click()">Bring in mixes of others …</button>
      <input
        ref="picker"
        type="file"
        multiple
        hidden
        accept="audio/*,.wav,.flac,.aif,.aiff,.ogg,.mp3"
        data-test="add-reference"
        @change="choose" />
      <span v-if="incoming" class="soft" role="status">
        {{ incoming.name }}: {{ Math.round(100 * incoming.part) }} %</span
      >
    </p>
    <p v-if="problem" class="problem" role="alert">{{ problem }}</p>
    <p v-if="!list.length" class="soft">
      A mix that you trust, kept with this session: heard by holding R on every screen, as loud as yours, and never part
      of the mix.
    </p>
    <ul data-test="references">
      <li v-for="one in list" :key="one.id" :class="{ now: one.id === picked?.id }">
        <input
          type="radio"
          name="reference"
          :checked="one.id === picked?.id"
          :aria-label="`R plays ${one.name}`"
          title="This one is heard by R"
          @change="references.pick(one)" />
        <input
          class="name"
          :value="one.name"
          maxlength="120"
          :aria-label="`Name of ${one.name}`"
          @change="rename(one, ($event.target as HTMLInputElement).value)" />
        <span class="figures soft">{{ formatTime(lengthS(one)) }}</span>
        <span class="soft">begins at</span>
        <FigureInput
          :label="`${one.name} begins at`"
          bare
          unit="s"
          :value="one.start_frame / rate"
          :minimum="-36000"
          :maximum="36000"
          title="Below zero: its first seconds are left out, so that the passage you want is heard at yours"
          @commit="references.set(one, { start_frame: Math.round(($event ?? 0) * rate) }, 'Place')" />
        <HoldButton data-test="hear-reference" @hold="references.hear(true, one)" @release="references.hear(false)"
          >hold: hear it</HoldButton
        >
        <button class="plain" title="Let it go; undo brings it back" @click="references.remove(one)">let go</button>
      </li>
    </ul>
    <template v-if="picked">
      <p v-if="summary" data-test="reference-told">{{ summary }}</p>
      <p v-else-if="comparing" class="soft" role="status">listening to both …</p>
      <p class="soft" role="status" data-test="reference-heard">
        {{
          heard
            ? `heard now: ${picked.name}, ${formatDb(match?.match_before_db ?? 0)}`
            : match
              ? 'heard now: ours; a switch is at once'
              : 'play, and a switch is made ready'
        }}
      </p>
      <div v-if="compared" class="lanes">
        <NoteRuler :view="wholeAxis" />
        <div class="lane">
          <SpectrumLane
            :hz="compared.hz"
            :spectrum="{ level_db: compared.after_db }"
            :behind="compared.beside_db"
            :response="[]"
            :frequency="wholeAxis" />
        </div>
        <p class="soft sentence">
          Ink: our mix, over the loop or the song. Slate: the reference behind it, as if it was equally loud; hatched
          where it holds more.
        </p>
      </div>
    </template>
  </section>
</template>

<style scoped>
ul {
  list-style: none;
  margin: 8px 0;
  padding: 0;
}
li {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 10px;
  align-items: center;
  padding: 4px 0;
  border-bottom: 1px solid var(--line);
}
.name {
  flex: 1;
  min-width: 130px;
  font: inherit;
  color: inherit;
  background: none;
  border: none;
  border-bottom: 1px dotted var(--line);
}
.now .name {
  font-weight: 700;
}
.lanes {
  display: grid;
  grid-template-columns: 58px minmax(0, 1fr) 150px;
  height: 340px;
  border: 1px solid var(--line);
}
.lane {
  position: relative;
  overflow: hidden;
  border-left: 1px solid var(--line);
}
.sentence {
  margin: 8px;
  font-size: 0.7812rem;
}
.problem {
  color: var(--vermilion);
}
</style>
