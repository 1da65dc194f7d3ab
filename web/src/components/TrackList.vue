<script setup lang="ts">
/** The tracks of the session, one line each; the chosen one is on the bench. */
import type { TrackState } from '../api/client'

defineProps<{ tracks: TrackState[]; chosenId: string | null }>()
const emit = defineEmits<{ choose: [id: string]; toggle: [track: TrackState, field: 'solo' | 'mute'] }>()
const moves = (track: TrackState) => `${track.ledger.length} ${track.ledger.length === 1 ? 'move' : 'moves'}`
</script>

<template>
  <nav class="tracks" aria-label="Tracks">
    <div v-for="track in tracks" :key="track.id" class="track" :class="{ chosen: track.id === chosenId }">
      <button class="name" :aria-current="track.id === chosenId" @click="emit('choose', track.id)">{{ track.name }}</button>
      <div class="row figures">
        <button class="plain" :aria-pressed="track.solo" :title="`Solo ${track.name}`" @click="emit('toggle', track, 'solo')">S</button>
        <button class="plain" :aria-pressed="track.mute" :title="`Mute ${track.name}`" @click="emit('toggle', track, 'mute')">M</button>
        <span class="soft">{{ moves(track) }}<template v-if="track.pins.length"> · {{ track.pins.length }} pin{{ track.pins.length > 1 ? 's' : '' }}</template></span>
      </div>
    </div>
  </nav>
</template>

<style scoped>
.tracks { overflow-y: auto; border-right: 1px solid var(--line); padding: 6px 0; }
.track { padding: 5px 8px 6px 12px; border-left: 4px solid transparent; border-bottom: 1px solid var(--line); }
.chosen { border-left-color: var(--ink); background: var(--paper-sunk); }
.name { font: inherit; color: inherit; background: none; border: 0; padding: 0; width: 100%; text-align: left; cursor: pointer; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
.chosen .name { font-weight: 700; }
.row { display: flex; align-items: center; gap: 3px; margin-left: -6px; }
.row .plain { padding: 0 5px; }
</style>
