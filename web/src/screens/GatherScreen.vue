<script setup lang="ts">
/** Files come in and become tracks; each track's place in the session. */
import { usePlay, useSession } from '../composables/work'
import { ElButton, ElOption, ElProgress, ElSelect, ElSwitch } from 'element-plus'
import { computed, ref, useTemplateRef } from 'vue'
import { upload, type Group, type GroupFields, type SessionState, type Track, type TrackFields } from '../api/client'
import CellarPanel from '../panels/CellarPanel.vue'
import FigureInput from '../components/FigureInput.vue'
import UnusedSound from '../components/UnusedSound.vue'
import TrackPicture from '../components/TrackPicture.vue'
import { setGroup, setTrack } from '../lib/intents'
import { newId } from '../lib/moves'
import { formatTime } from '../lib/figures'

interface Incoming {
  name: string
  part: number
  state: 'waiting' | 'sending' | 'reading' | 'in' | 'refused'
  reason: string
}

const session = useSession()
const { about, state, chosenId, edit, take } = session
const { rate } = usePlay()
const incoming = ref<Incoming[]>([])
const over = ref(false)
const picker = useTemplateRef<HTMLInputElement>('picker')
const replacer = useTemplateRef<HTMLInputElement>('replacer')
let replacing: Track | null = null
const tracks = computed(() => state.value?.tracks ?? [])
const WORDS: Record<Incoming['state'], string> = {
  waiting: 'waits',
  sending: 'going up',
  reading: 'being read and converted',
  in: 'is in',
  refused: 'refused',
}

async function bring(files: FileList | null | undefined, pathOf: () => string) {
  const rows = [...(files ?? [])].map((file) => ({
    file,
    row: ref<Incoming>({ name: file.name, part: 0, state: 'waiting', reason: '' }),
  }))
  incoming.value = [...rows.map(({ row }) => row.value), ...incoming.value]
  for (const { file, row } of rows) await bringOne(file, row.value, pathOf())
}

async function bringOne(file: File, row: Incoming, path: string) {
  row.state = 'sending'
  try {
    const next: SessionState = await upload(path, file, {}, (part) => {
      row.part = part
      if (part >= 1) row.state = 'reading'
    })
    row.state = 'in'
    const added = path === addPath() ? next.tracks.at(-1) : null
    if (added && added.role !== 'other') row.reason = `taken for ${added.role} by its name`
    take(next)
  } catch (error) {
    row.state = 'refused'
    row.reason = (error as Error).message
  }
}

const addPath = () => `/sessions/${session.id}/tracks`

function drop(event: DragEvent) {
  over.value = false
  void bring(event.dataTransfer?.files, addPath)
}

function pickOther(track: Track) {
  replacing = track
  replacer.value?.click()
}

function replace() {
  const track = replacing
  if (track)
    void bring(replacer.value?.files, () => `/sessions/${session.id}/tracks/${track.id}/audio`).then(
      () => replacer.value && (replacer.value.value = ''),
    )
}

function pick() {
  void bring(picker.value?.files, addPath).then(() => picker.value && (picker.value.value = ''))
}

const set = (track: Track, label: string, fields: TrackFields) =>
  edit(`${track.name}: ${label}`, [setTrack(track, fields)])
const setOfGroup = (group: Group, label: string, fields: GroupFields) =>
  edit(`${group.name}: ${label}`, [setGroup(group, fields)])
const NEW_GROUP = 'new'

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

function renameSession(event: Event) {
  const input = event.target as HTMLInputElement
  const name = input.value.trim()
  if (!name) input.value = state.value.name
  else void edit('Rename the session', [{ do: 'set-session', fields: { name }, seen: { name: state.value.name } }])
}

const clearDone = () =>
  (incoming.value = incoming.value.filter(
    (row) => row.state === 'sending' || row.state === 'reading' || row.state === 'waiting',
  ))
const lengthTold = (track: Track) => formatTime(session.lengthOf(track.audio_id) / rate.value)
function told(track: Track) {
  const file = state.value.audio[track.audio_id]
  if (!file) return ''
  const channels = file.n_channels === 1 ? 'mono' : 'stereo'
  const kind = `${file.format}, ${file.subtype}, ${file.original_rate_hz / 1000} kHz, ${channels}`
  return `${file.original_name}: ${kind}, ${lengthTold(track)}`
}
</script>

<template>
  <div
    class="page"
    :class="{ over }"
    @dragover.prevent="over = true"
    @dragleave.self="over = false"
    @drop.prevent="drop">
    <input
      class="name session"
      :value="state?.name"
      maxlength="120"
      aria-label="Name of the session"
      title="Name of the session"
      @change="renameSession" />
    <section class="bring">
      <ElButton type="primary" @click="picker?.click()">Choose files</ElButton>
      <span>or drop several at once anywhere on this page.</span>
      <span class="soft">WAV, AIFF, FLAC and more; {{ about?.import_limits }}</span>
      <input
        ref="picker"
        data-test="files"
        type="file"
        multiple
        hidden
        accept="audio/*,.wav,.aif,.aiff,.flac,.rf64,.w64,.caf,.ogg,.mp3"
        @change="pick" />
      <input ref="replacer" type="file" hidden accept="audio/*" @change="replace" />
    </section>
    <ul v-if="incoming.length" class="incoming" aria-label="Files coming in">
      <li v-for="(row, index) in incoming" :key="index" :class="row.state">
        <span class="file">{{ row.name }}</span>
        <ElProgress
          v-if="row.state === 'sending' || row.state === 'reading'"
          class="progress"
          :percentage="Math.round(row.part * 100)"
          :indeterminate="row.state === 'reading'"
          :show-text="false" />
        <span class="how"
          >{{ WORDS[row.state] }}<template v-if="row.reason">: {{ row.reason }}</template></span
        >
      </li>
      <button class="plain clear" @click="clearDone">clear this list</button>
    </ul>
    <p v-if="!tracks.length" class="empty soft">
      No tracks yet. Bring in the tracks of the song, all starting at the same moment; a start offset can be set for
      each.
    </p>
    <table v-else>
      <thead>
        <tr>
          <th>Name</th>
          <th>Picture</th>
          <th>Role</th>
          <th>Group</th>
          <th>Twin of</th>
          <th>Gain</th>
          <th>Pan</th>
          <th>Start</th>
          <th>Polarity</th>
          <th>Solo</th>
          <th>Mute</th>
          <th></th>
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
            <div class="length figures soft">{{ lengthTold(track) }}</div>
          </td>
          <td class="picture" :title="told(track)">
            <TrackPicture
              :audio-id="track.audio_id"
              :frames="session.lengthOf(track.audio_id)"
              :columns="about?.tile_columns ?? 256"
              :rate="rate" />
          </td>
          <td>
            <ElSelect
              :model-value="track.role"
              size="small"
              filterable
              :aria-label="`Role of ${track.name}`"
              class="role"
              @change="set(track, 'role', { role: $event })">
              <ElOption v-for="role in about?.roles ?? []" :key="role" :value="role" :label="role" />
            </ElSelect>
          </td>
          <td>
            <ElSelect
              :model-value="track.group_id ?? ''"
              size="small"
              :aria-label="`Group of ${track.name}`"
              class="short"
              placeholder="none"
              data-test="group-of"
              @change="join(track, $event)">
              <ElOption value="" label="none" /><ElOption
                v-for="group in state?.groups ?? []"
                :key="group.id"
                :value="group.id"
                :label="group.name" /><ElOption :value="NEW_GROUP" label="a new group" />
            </ElSelect>
          </td>
          <td>
            <ElSelect
              :model-value="twinOf(track)?.id ?? ''"
              size="small"
              :aria-label="`Twin of ${track.name}`"
              class="short"
              placeholder="none"
              data-test="twin-of"
              title="Two microphones on one source share one ledger"
              @change="pair(track, $event)">
              <ElOption value="" label="none" /><ElOption
                v-for="other in tracks.filter((one) => one.id !== track.id)"
                :key="other.id"
                :value="other.id"
                :label="other.name" />
            </ElSelect>
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
            <RouterLink :to="`/session/${state?.id}/bench`" @click="chosenId = track.id">bench</RouterLink>
            <button
              class="plain"
              :title="`Give ${track.name} another file; its ledger stays`"
              @click="pickOther(track)">
              replace
            </button>
            <button class="plain" @click="remove(track)">remove</button>
          </td>
        </tr>
      </tbody>
    </table>
    <section v-if="state?.groups.length" class="groups" aria-label="Groups">
      <h2>Groups</h2>
      <div v-for="group in state.groups" :key="group.id" class="group">
        <input
          class="name"
          :value="group.name"
          maxlength="120"
          :aria-label="`Name of group ${group.name}`"
          @change="
            setOfGroup(group, 'name', { name: ($event.target as HTMLInputElement).value.trim() || group.name })
          " />
        <span class="soft">{{
          tracks
            .filter((track) => track.group_id === group.id)
            .map((track) => track.name)
            .join(', ') || 'no tracks'
        }}</span>
        <FigureInput
          bare
          :label="`Gain of group ${group.name}`"
          unit="dB"
          :value="group.gain_db ?? 0"
          :minimum="-60"
          :maximum="24"
          @commit="setOfGroup(group, 'gain', { gain_db: $event ?? 0 })" />
        <button
          class="plain boxed"
          :aria-pressed="group.solo"
          @click="setOfGroup(group, 'solo', { solo: !group.solo })">
          solo
        </button>
        <button
          class="plain boxed"
          :aria-pressed="group.mute"
          @click="setOfGroup(group, 'mute', { mute: !group.mute })">
          mute
        </button>
        <RouterLink :to="`/session/${state.id}/bench`" @click="chosenId = group.id">to the bench</RouterLink>
        <button
          class="plain"
          title="The tracks stay, without the group"
          @click="edit(`Dissolve ${group.name}`, [{ do: 'remove-group', group_id: group.id }])">
          dissolve
        </button>
      </div>
    </section>
    <CellarPanel v-if="tracks.length" />
    <UnusedSound :session-id="session.id" :revision="session.saved.value.revision" @deleted="session.reload" />
  </div>
</template>

<style scoped>
.page {
  height: 100%;
  overflow: auto;
  padding: 14px 16px;
}
.over {
  outline: 3px dashed var(--ink);
  outline-offset: -8px;
}
.bring {
  display: flex;
  gap: 12px;
  align-items: baseline;
  margin-bottom: 12px;
}
.incoming {
  list-style: none;
  margin: 0 0 14px;
  padding: 8px 12px;
  background: var(--paper-sunk);
}
.incoming .clear {
  padding: 2px 0;
  text-decoration: underline;
}
.incoming li {
  display: flex;
  gap: 12px;
  align-items: center;
  padding: 2px 0;
}
.file {
  width: 260px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.progress {
  width: 180px;
}
.refused .how {
  color: var(--vermilion);
  font-weight: 700;
}
.in .how {
  color: var(--green);
}
.empty {
  padding: 60px 20px;
  text-align: center;
  border: 1px dashed var(--ink-soft);
}
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
  width: 118px;
}
.session {
  width: 420px;
  font-size: 19px;
  font-weight: 700;
  margin-bottom: 10px;
  padding: 0;
}
.name:hover,
.name:focus {
  border-bottom-color: var(--ink-soft);
}
.picture {
  width: 90px;
  height: 34px;
}
.picture > * {
  height: 30px;
}
.length {
  font-size: 12px;
  padding-left: 2px;
}
.role {
  width: 122px;
}
.short {
  width: 92px;
}
td :deep(.figure.bare),
td :deep(.figure.bare input) {
  width: 72px;
  grid-template-columns: 72px;
}
.acts {
  white-space: nowrap;
}
.acts a {
  margin-right: 2px;
}
.acts a,
.group a {
  color: var(--ink);
}
.acts .plain {
  padding: 2px 4px;
}
.groups {
  margin-top: 18px;
}
.groups h2 {
  font-size: 15px;
  margin: 0 0 6px;
}
.group {
  display: flex;
  gap: 12px;
  align-items: center;
  padding: 4px 0;
  border-top: 1px solid var(--line);
}
.group .soft {
  flex: 1;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
</style>
