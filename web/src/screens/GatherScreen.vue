<script setup lang="ts">
/** Files come in and become tracks; each track's place in the session. */
import { ElButton } from 'element-plus'
import { ref, useTemplateRef } from 'vue'
import type { Track } from '../api/client'
import ChannelQuestion from '../components/ChannelQuestion.vue'
import IncomingList from '../components/IncomingList.vue'
import UnusedSound from '../components/UnusedSound.vue'
import { useIncoming } from '../composables/useIncoming'
import { useSession } from '../composables/work'
import { droppedFiles } from '../lib/dropped'
import CellarPanel from '../panels/CellarPanel.vue'
import GroupList from '../panels/GroupList.vue'
import TrackTable from '../panels/TrackTable.vue'

const { id, about, state, saved, edit, reload, listenedTo } = useSession()
const { incoming, add, replace, lineUp, clearDone, makeSections, question, answer } = useIncoming()
const over = ref(false)
const picker = useTemplateRef<HTMLInputElement>('picker')
const replacer = useTemplateRef<HTMLInputElement>('replacer')
let replacing: Track | null = null

async function drop(event: DragEvent) {
  over.value = false
  const { files } = await droppedFiles(event.dataTransfer)
  await add(files)
}

function pickOther(track: Track) {
  replacing = track
  replacer.value?.click()
}

/** The same file can be chosen again afterwards. */
const emptied = (input: HTMLInputElement | null) => input && (input.value = '')

const pick = () => void add([...(picker.value?.files ?? [])]).finally(() => emptied(picker.value))
function replaceSound() {
  const [file] = replacer.value?.files ?? []
  if (replacing && file) void replace(replacing, file).finally(() => emptied(replacer.value))
}

function renameSession(event: Event) {
  const input = event.target as HTMLInputElement
  const name = input.value.trim()
  if (!name) input.value = state.value.name
  else void edit('Rename the session', [{ do: 'set-session', fields: { name }, seen: { name: state.value.name } }])
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
      class="session"
      :value="state.name"
      maxlength="120"
      aria-label="Name of the session"
      title="Name of the session"
      @change="renameSession" />
    <section class="bring">
      <ElButton type="primary" @click="picker?.click()">Choose files</ElButton>
      <span>or drop files, a folder or a ZIP anywhere on this page.</span>
      <span class="soft">WAV, AIFF, FLAC and more; {{ about.import_limits }}</span>
      <input
        ref="picker"
        data-test="files"
        type="file"
        multiple
        hidden
        accept="audio/*,.wav,.aif,.aiff,.flac,.rf64,.w64,.caf,.ogg,.mp3,.zip"
        @change="pick" />
      <input ref="replacer" type="file" hidden accept="audio/*" @change="replaceSound" />
    </section>
    <IncomingList
      v-if="incoming.length"
      :incoming="incoming"
      @clear="clearDone"
      @sections="makeSections"
      @line-up="lineUp" />
    <ChannelQuestion v-if="question" :question="question" @answer="answer" />
    <p v-if="!state.tracks.length" class="empty soft">
      No tracks yet. Bring in the tracks of the song, all starting at the same moment; a start offset can be set for
      each.
    </p>
    <TrackTable v-else @replace="pickOther" />
    <p v-if="listenedTo?.of" class="soft listened" role="status" data-test="listened">
      <template v-if="listenedTo.done < listenedTo.of"
        >Listening in the background, so that pictures, suspects and clashes are there when you want them:
        <span class="figures">{{ listenedTo.done }} of {{ listenedTo.of }}</span></template
      ><template v-else>All tracks are listened to: pictures, suspects and clashes are there.</template>
    </p>
    <GroupList v-if="state.tracks.length" />
    <CellarPanel v-if="state.tracks.length" />
    <UnusedSound :session-id="id" :revision="saved.revision" @deleted="reload" />
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
.listened {
  margin: 8px 0 0;
}
.bring {
  display: flex;
  gap: 12px;
  align-items: baseline;
  margin-bottom: 12px;
}
.empty {
  padding: 60px 20px;
  text-align: center;
  border: 1px dashed var(--ink-soft);
}
.session {
  font: inherit;
  color: inherit;
  background: none;
  border: 0;
  border-bottom: 1px solid transparent;
  width: 26.25rem;
  font-size: 1.1875rem;
  font-weight: 700;
  margin-bottom: 10px;
  padding: 0;
}
.session:hover,
.session:focus {
  border-bottom-color: var(--ink-soft);
}
</style>
