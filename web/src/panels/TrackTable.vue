<script setup lang="ts">
/** The tracks' places in the session: name, role, group, twin, fader. */
import { ElSwitch } from 'element-plus'
import { computed } from 'vue'
import type { Role, Track, TrackFields } from '../api/client'
import FigureInput from '../components/FigureInput.vue'
import PickOne from '../components/PickOne.vue'
import TrackPicture from '../components/TrackPicture.vue'
import { usePlay, useSession } from '../composables/work'
import { formatTime } from '../lib/figures'
import { setTrack } from '../lib/intents'
import { newId } from '../lib/moves'

const emit = defineEmits<{ replace: [track: Track] }>()
const session = useSession()
const { about, state, chosenId, edit } = session
const { rate } = usePlay()
const tracks = computed(() => state.value.tracks)
/** Those of which something is still to be listened to in the background. */
const stillToHear = computed(() => new Set(session.listenedTo.value?.strip_ids ?? []))

const set = (track: Track, label: string, fields: TrackFields) =>
  edit(`${track.name}: ${label}`, [setTrack(track, fields)])
const NEW_GROUP = 'new'
const NONE = ['', 'none'] as const
const roles = computed(() => about.value.roles.map((role) => [role, role] as const))
const groups = computed(() => [
  NONE,
  ...state.value.groups.map((group) => [group.id, group.name] as const),
  [NEW_GROUP, 'a new group'] as const,
])
const named = computed(() => tracks.value.map((track) => [track.id, track.name] as const))

/** Put a track into a group, which is made where it is a new one. */
function join(track: Track, groupId: string) {
  if (groupId !== NEW_GROUP) {
    return set(track, groupId ? 'into a group' : 'out of its group', { group_id: groupId || null })
  }
  const id = newId()
  const name = `Group ${state.value.groups.length + 1}`
  return edit(`${track.name}: into a new group`, [
    { do: 'add-group', group_id: id, name },
    setTrack(track, { group_id: id }),
  ])
}

const twinOf = (track: Track) =>
  tracks.value.find((one) => track.twin_id && one !== track && one.twin_id === track.twin_id)

/** Make two tracks twins: from now on they share the other one's ledger. */
function pair(track: Track, otherId: string) {
  const other = tracks.value.find((one) => one.id === otherId)
  if (!other) return edit(`${track.name}: no twin any more`, [{ do: 'unpair-track', track_id: track.id }])
  const label = `${track.name}: twin of ${other.name}`
  return edit(label, [{ do: 'pair-tracks', track_id: track.id, with_id: other.id, twin_id: newId() }])
}
const remove = (track: Track) => edit(`Remove ${track.name}`, [{ do: 'remove-track', track_id: track.id }])

function rename(track: Track, event: Event) {
  const input = event.target as HTMLInputElement
  const name = input.value.trim()
  if (name) void set(track, 'name', { name })
  else input.value = track.name
}

const lengthText = (track: Track) => formatTime(session.lengthOf(track.audio_id) / rate.value)
function fileText(track: Track) {
  const file = state.value.audio[track.audio_id]
  if (!file) return ''
  const channels = file.n_channels === 1 ? 'mono' : 'stereo'
  const kind = `${file.format}, ${file.subtype}, ${file.original_rate_hz / 1000} kHz, ${channels}`
  return `${file.original_name}: ${kind}, ${lengthText(track)}`
}
</script>

<template>
  <table>
    <thead>
      <tr>
        <th>Name</th>
        <th class="seen">Picture</th>
        <th>Role</th>
        <th>Group</th>
        <th>Twin of</th>
        <th>Gain</th>
        <th>Pan</th>
        <th>Start</th>
        <th>Polarity</th>
        <th>Solo</th>
        <th>Mute</th>
        <th><span class="unseen">what can be done</span></th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="track in tracks" :key="track.id" :class="{ chosen: track.id === chosenId }">
        <td>
          <input
            class="name"
            :value="track.name"
            maxlength="120"
            :aria-label="`Name of ${track.name}`"
            @change="rename(track, $event)"
            @focus="chosenId = track.id" />
          <div class="length figures soft">
            {{ lengthText(track) }}{{ stillToHear.has(track.id) ? ' · to be heard' : '' }}
          </div>
        </td>
        <td class="seen picture" :title="fileText(track)">
          <TrackPicture
            :audio-id="track.audio_id"
            :frames="session.lengthOf(track.audio_id)"
            :columns="about.tile_columns"
            :address="(place, signal) => session.smallPictureUrl(track.id, place, signal)" />
        </td>
        <td>
          <PickOne
            class="role"
            :value="track.role ?? 'other'"
            :label="`Role of ${track.name}`"
            :choices="roles"
            @pick="set(track, 'role', { role: $event as Role })" />
        </td>
        <td>
          <PickOne
            class="short"
            data-test="group-of"
            :value="track.group_id ?? ''"
            :label="`Group of ${track.name}`"
            :choices="groups"
            @pick="join(track, $event)" />
        </td>
        <td>
          <PickOne
            class="short"
            data-test="twin-of"
            title="Two microphones on one source share one ledger"
            :value="twinOf(track)?.id ?? ''"
            :label="`Twin of ${track.name}`"
            :choices="[NONE, ...named.filter(([id]) => id !== track.id)]"
            @pick="pair(track, $event)" />
        </td>
        <td>
          <FigureInput
            bare
            :label="`Gain of ${track.name}`"
            unit="dB"
            :value="track.gain_db ?? 0"
            :minimum="-60"
            :maximum="24"
            @commit="set(track, 'gain', { gain_db: $event ?? 0 })" />
        </td>
        <td>
          <FigureInput
            bare
            :label="`Pan of ${track.name}`"
            unit="pan"
            :value="track.pan ?? 0"
            :minimum="-1"
            :maximum="1"
            @commit="set(track, 'pan', { pan: $event ?? 0 })" />
        </td>
        <td>
          <FigureInput
            bare
            :label="`Start of ${track.name}`"
            unit="s"
            :value="(track.start_frame ?? 0) / rate"
            :minimum="0"
            :maximum="3600"
            @commit="set(track, 'start', { start_frame: Math.round(($event ?? 0) * rate) })" />
        </td>
        <td>
          <ElSwitch
            size="small"
            :model-value="track.polarity_flipped"
            :aria-label="`Polarity of ${track.name} flipped`"
            @change="set(track, 'polarity', { polarity_flipped: Boolean($event) })" />
        </td>
        <td>
          <button
            class="plain boxed"
            :aria-pressed="track.solo"
            :aria-label="`Solo ${track.name}`"
            @click="set(track, 'solo', { solo: !track.solo })">
            solo
          </button>
        </td>
        <td>
          <button
            class="plain boxed"
            :aria-pressed="track.mute"
            :aria-label="`Mute ${track.name}`"
            @click="set(track, 'mute', { mute: !track.mute })">
            mute
          </button>
        </td>
        <td class="acts">
          <RouterLink :to="`/session/${state.id}/bench`" @click="chosenId = track.id">bench</RouterLink>
          <button
            class="plain"
            :title="`Give ${track.name} another file; its ledger stays`"
            @click="emit('replace', track)">
            replace
          </button>
          <button class="plain" @click="remove(track)">remove</button>
        </td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
table {
  border-collapse: collapse;
  width: 100%;
}
th {
  text-align: left;
  font-weight: 400;
  color: var(--ink-soft);
  border-bottom: 1.5px solid var(--ink);
  padding: 3px 6px;
}
td {
  border-bottom: 1px solid var(--line);
  padding: 4px 5px;
  vertical-align: middle;
}
.name {
  font: inherit;
  color: inherit;
  background: none;
  border: 0;
  border-bottom: 1px solid transparent;
  width: 7.375rem;
}
.name:hover,
.name:focus {
  border-bottom-color: var(--ink-soft);
}
.picture {
  width: 5.625rem;
  height: 2.125rem;
}
.picture > * {
  height: 1.875rem;
}
.length {
  font-size: 0.75rem;
  padding-left: 2px;
}
.role,
.short {
  font-size: 0.8125rem;
}
.role {
  width: 7.625rem;
}
.short {
  width: 5.75rem;
}
td :deep(.figure.bare),
td :deep(.figure.bare input) {
  width: 4.5rem;
  grid-template-columns: 4.5rem;
}
.acts {
  white-space: nowrap;
}
@media (max-width: 75em) {
  .seen {
    display: none;
  }
  .role {
    width: 7rem;
  }
  .short {
    width: 5.25rem;
  }
  th,
  td {
    padding-left: 3px;
    padding-right: 3px;
  }
  td :deep(.figure.bare),
  td :deep(.figure.bare input) {
    width: 4.125rem;
    grid-template-columns: 4.125rem;
  }
}
.acts a {
  margin-right: 2px;
}
.acts a {
  color: var(--ink);
}
.acts .plain {
  padding: 2px 4px;
}
/* With very large text, or in a very narrow window, each track takes the lines that it needs. */
@media (max-width: 50em) {
  thead {
    position: absolute;
    clip-path: inset(50%);
  }
  tbody tr {
    display: flex;
    flex-wrap: wrap;
    align-items: center;
    gap: 0 0.75rem;
    border-bottom: 1px solid var(--line);
  }
  tbody td {
    border: 0;
  }
}
</style>
