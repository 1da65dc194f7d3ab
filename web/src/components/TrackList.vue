<script setup lang="ts">
/** The tracks of the session, each with a thin picture, then its groups and the mix; the chosen one is on the bench. */
import { computed, ref } from 'vue'
import type { Group, Intent, Strip, Track } from '../api/client'
import type { Place } from '../api/analyses'
import { usePictures } from '../api/pictures'
import { setStrip, setTrack } from '../lib/intents'
import TrackPicture from './TrackPicture.vue'

const props = defineProps<{
  tracks: Track[]
  groups: Group[]
  master: Group
  chosenId: string | null
  columns: number
  lengthOf: (audioId: string) => number
  pictureOf: (stripId: string, place: Place, signal: AbortSignal) => Promise<string>
}>()
const { toCome } = usePictures()
const emit = defineEmits<{
  choose: [id: string]
  edit: [label: string, steps: Intent[]]
  file: [file: File, stripId: string]
}>()
/** The track that something is held over. */
const over = ref('')
function dropped(event: DragEvent, id: string) {
  over.value = ''
  const file = event.dataTransfer?.files[0]
  if (file) emit('file', file, id)
}
const count = (n: number, word: string) => `${n} ${word}${n === 1 ? '' : 's'}`
const groupName = (id: string | null | undefined) => props.groups.find((group) => group.id === id)?.name ?? ''
const twins = computed(
  () =>
    new Map(
      props.tracks.map((track) => [
        track.id,
        props.tracks.filter((one) => track.twin_id && one.twin_id === track.twin_id && one !== track),
      ]),
    ),
)
const toggle = (one: Strip, field: 'solo' | 'mute') => {
  const fields = { [field]: !one[field] }
  emit('edit', `${one.name}: ${field} ${one[field] ? 'off' : 'on'}`, [setStrip(one, fields)])
}
const flip = (track: Track) =>
  emit('edit', `${track.name}: polarity`, [setTrack(track, { polarity_flipped: !track.polarity_flipped })])
</script>

<template>
  <nav class="tracks" data-hint="tracks" aria-label="Tracks">
    <div
      v-for="track in tracks"
      :key="track.id"
      class="track"
      :class="{ chosen: track.id === chosenId, silent: track.mute, over: over === track.id }"
      data-test="track"
      @dragover.prevent="over = track.id"
      @dragleave="over = ''"
      @drop.prevent="dropped($event, track.id)">
      <button
        class="name"
        :aria-current="track.id === chosenId"
        :aria-label="track.name"
        @click="emit('choose', track.id)">
        <span class="words"
          >{{ track.name
          }}<span v-if="groupName(track.group_id)" class="soft of"> in {{ groupName(track.group_id) }}</span></span
        >
        <span class="thin"
          ><TrackPicture
            :audio-id="track.audio_id"
            :frames="lengthOf(track.audio_id)"
            :columns="columns"
            :address="(place, signal) => pictureOf(track.id, place, signal)"
        /></span>
      </button>
      <div v-if="twins.get(track.id)?.length" class="twin soft" :title="'They share one ledger'">
        twin of
        {{
          twins
            .get(track.id)
            ?.map((one) => one.name)
            .join(', ')
        }}
        <button
          class="plain"
          :aria-pressed="track.polarity_flipped"
          :title="`Flip the polarity of ${track.name}`"
          @click="flip(track)">
          {{ track.polarity_flipped ? 'polarity flipped' : 'polarity as is' }}
        </button>
      </div>
      <div class="row figures">
        <button class="plain" :aria-pressed="track.solo" :title="`Solo ${track.name}`" @click="toggle(track, 'solo')">
          solo
        </button>
        <button class="plain" :aria-pressed="track.mute" :title="`Mute ${track.name}`" @click="toggle(track, 'mute')">
          mute
        </button>
        <span v-if="track.ledger?.length" class="count" :title="count(track.ledger.length, 'move')">{{
          count(track.ledger.length, 'move')
        }}</span>
        <span v-else-if="track.pins?.length" class="count">{{ count(track.pins.length, 'pin') }}</span>
      </div>
    </div>
    <div
      v-for="group in [...groups, master]"
      :key="group.id"
      class="track group"
      :class="{ chosen: group.id === chosenId, silent: group.mute }"
      data-test="group">
      <button
        class="name"
        :aria-current="group.id === chosenId"
        :aria-label="group === master ? 'Mix' : `Group ${group.name}`"
        @click="emit('choose', group.id)">
        <span class="words"
          ><span class="soft">{{ group === master ? '' : 'group ' }}</span
          >{{ group === master ? 'Mix' : group.name }}</span
        >
      </button>
      <div class="row figures">
        <template v-if="group !== master">
          <button class="plain" :aria-pressed="group.solo" :title="`Solo ${group.name}`" @click="toggle(group, 'solo')">
            solo
          </button>
          <button class="plain" :aria-pressed="group.mute" :title="`Mute ${group.name}`" @click="toggle(group, 'mute')">
            mute
          </button>
        </template>
        <span v-else class="soft">all tracks</span>
        <span v-if="group.ledger?.length" class="count">{{ count(group.ledger.length, 'move') }}</span>
      </div>
    </div>
    <p v-if="toCome" class="to-come soft" role="status">{{ count(toCome, 'picture') }} to come</p>
  </nav>
</template>

<style scoped>
.tracks {
  overflow-y: auto;
  border-right: 1px solid var(--line);
}
.to-come {
  margin: 0;
  padding: 2px 10px;
  font-size: 0.7812rem;
  position: sticky;
  bottom: 0;
  background: var(--paper);
  z-index: 1;
}
.track {
  padding: 5px 8px 4px 10px;
  border-left: 4px solid transparent;
  border-bottom: 1px solid var(--line);
}
.group {
  border-left-style: double;
  border-left-color: var(--line);
}
.over {
  outline: 2px dashed var(--ochre);
  outline-offset: -2px;
}
.chosen {
  border-left-color: var(--ink);
  background: var(--paper-sunk);
}
.name {
  font: inherit;
  color: inherit;
  background: none;
  border: 0;
  padding: 0;
  width: 100%;
  text-align: left;
  cursor: pointer;
}
.words {
  display: block;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.of,
.twin {
  font-size: 0.7812rem;
}
.twin .plain {
  padding: 0 3px;
  font-size: 0.7812rem;
}
.thin {
  display: block;
  height: 1rem;
}
.silent .thin {
  opacity: 0.3;
}
.chosen .words {
  font-weight: 700;
}
.chosen .of {
  font-weight: 400;
}
.row {
  display: flex;
  align-items: center;
  gap: 2px;
  margin-left: -5px;
}
.row .soft {
  padding-left: 5px;
}
.row .plain {
  padding: 0 5px;
  color: var(--ink-soft);
}
.row .plain[aria-pressed='true'] {
  color: var(--paper);
}
.count {
  margin-left: auto;
  white-space: nowrap;
}
</style>
