<script setup lang="ts">
/** The bench: find a fault of one track by eye and by sweeping, cut it, compare. */
import { useBench, useEdits, usePlay, useSession } from '../composables/work'
import { useBenchKeys } from '../composables/useBenchKeys'
import { computed } from 'vue'
import TrackList from '../components/TrackList.vue'
import WaveformStrip from '../components/WaveformStrip.vue'
import BenchCompare from '../panels/BenchCompare.vue'
import BenchLanes from '../panels/BenchLanes.vue'
import BenchSide from '../panels/BenchSide.vue'

const session = useSession()
const { about, state, chosen, chosenId, sound, edit } = session
const { positionFrame, rate, seek, message } = usePlay()
const { time, songS, loop, waveform, sections, setLoop, nameSection, removeSection } = useBench()
const offsetS = computed(() => (sound.value?.startFrame ?? 0) / rate.value)
const lengthS = computed(() => (sound.value?.nFrames ?? 1) / rate.value)
useBenchKeys()
const { takeTreatment } = useEdits()
/** A treatment file that is dropped on a track becomes its moves. */
async function dropped(file: File, stripId: string) {
  chosenId.value = stripId
  message.value = (await takeTreatment(file, stripId)) || message.value
}
</script>

<template>
  <div v-if="!chosen" class="nothing">
    This session has no tracks yet. <RouterLink :to="`/session/${state.id}/gather`">Gather some.</RouterLink>
  </div>
  <div v-else class="bench">
    <TrackList
      :tracks="state.tracks"
      :groups="state.groups"
      :master="state.master"
      :chosen-id="chosen.id"
      :columns="about.tile_columns"
      :length-of="session.lengthOf"
      :picture-of="session.smallPictureUrl"
      @choose="chosenId = $event"
      @edit="edit"
      @file="dropped" />
    <BenchLanes />
    <BenchSide />
    <div class="bottom">
      <WaveformStrip
        class="strip"
        :waveform="waveform"
        :offset-s="offsetS"
        :length-s="lengthS"
        :song-s="songS"
        :loop="loop"
        :position="() => positionFrame / rate"
        :shown="time"
        :sections="sections"
        @loop="setLoop"
        @name="nameSection"
        @remove-section="removeSection"
        @seek="seek($event * rate)" />
      <BenchCompare />
    </div>
  </div>
</template>

<style scoped>
.nothing {
  padding: 60px;
}
.bench {
  height: 100%;
  display: grid;
  grid-template: minmax(0, 1fr) minmax(114px, auto) / min(10.75rem, 20vw) minmax(0, 1fr) min(17.25rem, 32vw);
}
.bottom {
  grid-column: 1 / -1;
  display: grid;
  grid-template: minmax(0, 1fr) / minmax(0, 1fr) min(33.125rem, 56vw);
  border-top: 1.5px solid var(--ink);
  min-height: 0;
}
.strip {
  padding: 4px 0 0 8px;
}
/* What stands beside it says how high it is. */
.strip {
  contain: size;
}
</style>
