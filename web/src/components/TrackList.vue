<script setup lang="ts">
/** The tracks of the session, each with a thin picture; the chosen one is on the bench. */
import type { TrackState } from '../api/client'
import TrackPicture from './TrackPicture.vue'

defineProps<{ tracks: TrackState[]; chosenId: string | null; columns: number; rate: number }>()
const emit = defineEmits<{ choose: [id: string]; toggle: [track: TrackState, field: 'solo' | 'mute'] }>()
const count = (n: number, word: string) => `${n} ${word}${n === 1 ? '' : 's'}`
</script>

<template>
  <nav class="tracks" aria-label="Tracks">
    <div v-for="track in tracks" :key="track.id" class="track" :class="{ chosen: track.id === chosenId, silent: track.mute }">
      <button class="name" :aria-current="track.id === chosenId" @click="emit('choose', track.id)">
        <span class="words">{{ track.name }}</span>
        <span class="thin"><TrackPicture :audio-id="track.audio_id" :frames="track.audio.n_frames" :columns="columns" :rate="rate" /></span>
      </button>
      <div class="row figures">
        <button class="plain" :aria-pressed="track.solo" :title="`Solo ${track.name}`" @click="emit('toggle', track, 'solo')">solo</button>
        <button class="plain" :aria-pressed="track.mute" :title="`Mute ${track.name}`" @click="emit('toggle', track, 'mute')">mute</button>
        <span v-if="track.ledger.length" class="count" :title="count(track.ledger.length, 'move')">{{ count(track.ledger.length, 'move') }}</span>
        <span v-else-if="track.pins.length" class="count">{{ count(track.pins.length, 'pin') }}</span>
      </div>
    </div>
  </nav>
</template>

<style scoped>
.tracks { overflow-y: auto; border-right: 1px solid var(--line); }
.track { padding: 5px 8px 4px 10px; border-left: 4px solid transparent; border-bottom: 1px solid var(--line); }
.chosen { border-left-color: var(--ink); background: var(--paper-sunk); }
.name { font: inherit; color: inherit; background: none; border: 0; padding: 0; width: 100%; text-align: left; cursor: pointer; }
.words { display: block; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
.thin { display: block; height: 16px; }
.silent .thin { opacity: 0.3; }
.chosen .words { font-weight: 700; }
.row { display: flex; align-items: center; gap: 2px; margin-left: -5px; }
.row .plain { padding: 0 5px; color: var(--ink-soft); }
.row .plain[aria-pressed='true'] { color: var(--paper); }
.count { margin-left: auto; white-space: nowrap; }
</style>
