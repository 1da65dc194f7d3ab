<script setup lang="ts">
/** All sessions with what they take on the disk, a new one, sessions as files, and what was deleted lately. */
import { ElButton, ElInput } from 'element-plus'
import { onMounted, ref, useTemplateRef } from 'vue'
import { useRouter } from 'vue-router'
import { api, type SessionState, type SessionSummary, type Shelved } from '../api/client'
import ChannelQuestion from '../components/ChannelQuestion.vue'
import DeleteButton from '../components/DeleteButton.vue'
import IncomingList from '../components/IncomingList.vue'
import { useDropped } from '../composables/useDropped'
import { droppedFiles, namedAfter } from '../lib/dropped'
import { formatBytes } from '../lib/figures'

const RATES = [44_100, 48_000, 88_200, 96_000]
const router = useRouter()
const sessions = ref<SessionSummary[] | null>(null)
const shelf = ref<Shelved[]>([])
const sizes = ref<Record<string, number>>({})
const name = ref('')
const rate = ref(48_000)
const problem = ref('')
const picker = useTemplateRef<HTMLInputElement>('picker')
const over = ref(false)

async function insisted(what: () => Promise<unknown>) {
  problem.value = ''
  try {
    await what()
  } catch (error) {
    problem.value = (error as Error).message
  }
}
async function list() {
  ;[sessions.value, shelf.value] = await Promise.all([api.sessions(), api.shelf()])
  for (const { id } of sessions.value)
    await api.storage(id).then(
      (storage) => (sizes.value[id] = storage.session_bytes),
      () => undefined, // deleted from another page meanwhile
    )
}
onMounted(() => insisted(list))

/** Whoever points at a session is about to open it. */
const prepare = () => void Promise.all([import('./SessionScreen.vue'), import('./BenchScreen.vue')])

const shelve = (session: SessionSummary) => insisted(() => api.deleteSession(session.id).then(list))
const bringBack = (one: Shelved) => insisted(() => api.bringBack(one.id).then(list))
const removeForGood = (one: Shelved) => api.deleteSession(one.id, true).then(list)
const daysLeft = (one: Shelved) => Math.max(Math.ceil((Date.parse(one.goes_at) - Date.now()) / 86_400_000), 1)

const dropping = useDropped((session) => {
  const refused = dropping.incoming.value.some((row) => row.state === 'refused')
  // What was refused has to be read before the page goes on.
  made.value = refused ? session : null
  return refused ? undefined : router.push(`/session/${session.id}/gather`)
})
const { incoming, busy, question } = dropping
const made = ref<SessionState | null>(null)
function picked(event: Event) {
  const input = event.target as HTMLInputElement
  void dropping.bring(namedAfter([...(input.files ?? [])])).finally(() => (input.value = ''))
}
const dropped = async (event: DragEvent) => {
  over.value = false
  await dropping.bring(await droppedFiles(event.dataTransfer))
}

const make = () =>
  insisted(async () => {
    const made = await api.createSession(name.value.trim(), rate.value)
    await router.push(`/session/${made.id}/gather`)
  })
</script>

<template>
  <main
    class="page"
    :class="{ over }"
    @dragover.prevent="over = true"
    @dragleave.self="over = false"
    @drop.prevent="dropped">
    <h1>Mivlo</h1>
    <p class="lead">Find what rings, booms or sounds harsh in a track. Cut it, compare fairly, hand it over.</p>
    <p v-if="problem" class="problem" role="alert">{{ problem }}</p>
    <section aria-label="Sessions">
      <h2>Sessions</h2>
      <p v-if="sessions?.length === 0" class="soft">No session yet: make one below.</p>
      <div v-for="session in sessions ?? []" :key="session.id" class="line">
        <RouterLink
          class="session"
          data-test="session"
          :to="`/session/${session.id}/${session.n_tracks ? 'bench' : 'gather'}`"
          @focus="prepare"
          @pointerenter="prepare">
          <strong
            ><bdi>{{ session.name }}</bdi></strong
          >
          <span class="figures soft"
            >{{ session.n_tracks }} {{ session.n_tracks === 1 ? 'track' : 'tracks' }},
            {{ session.sample_rate_hz / 1000 }} kHz<template v-if="sizes[session.id]"
              >, {{ formatBytes(sizes[session.id] ?? 0) }}</template
            ></span
          >
          <span v-if="session.is_demo" class="soft">made up for trying things out</span>
        </RouterLink>
        <RouterLink v-if="session.is_demo" class="guided" data-test="guided" :to="`/session/${session.id}/bench?guide`"
          >cure a ring in three steps</RouterLink
        >
        <a
          class="plain"
          :href="`/api/sessions/${session.id}/bundle`"
          download
          data-test="save-bundle"
          :aria-label="`${session.name}: save as a bundle`"
          title="The session with its files as one ZIP, to be opened on another machine"
          >save as a bundle</a
        >
        <button class="plain" :aria-label="`Delete ${session.name}`" data-test="shelve" @click="shelve(session)">
          delete
        </button>
      </div>
    </section>
    <section aria-label="New session">
      <h2>New session</h2>
      <form class="new" @submit.prevent="make">
        <ElInput v-model="name" placeholder="Name" aria-label="Name of the new session" maxlength="120" />
        <select v-model="rate" aria-label="Sampling rate" class="rate">
          <option v-for="hz in RATES" :key="hz" :value="hz">{{ hz / 1000 }} kHz</option>
        </select>
        <ElButton native-type="submit" type="primary" :disabled="!name.trim()">Make it</ElButton>
      </form>
      <p class="soft">
        All tracks are heard at the session's sampling rate. A track handed over keeps the rate of its own file.
      </p>
      <p class="drop">
        <ElButton :disabled="busy" @click="picker?.click()">Choose files</ElButton>
        <span class="soft">
          or drop files, a folder or a ZIP of stems anywhere here: a session of them is made at the rate that most of
          them have. A bundle opens as the session that was saved.</span
        >
        <input
          ref="picker"
          type="file"
          hidden
          multiple
          accept="audio/*,.wav,.aif,.aiff,.flac,.rf64,.w64,.caf,.ogg,.mp3,.zip"
          data-test="bring"
          @change="picked" />
      </p>
      <IncomingList v-if="incoming.length" :incoming="incoming" @clear="incoming = []" />
      <ChannelQuestion v-if="question" :question="question" @answer="dropping.answer" />
      <p v-if="dropping.problem.value" class="problem" role="alert">{{ dropping.problem.value }}</p>
      <p v-if="made">
        <RouterLink class="on" :to="`/session/${made.id}/gather`" data-test="go-on"
          >Go on with the {{ made.tracks.length }} that came in</RouterLink
        >
      </p>
    </section>
    <section v-if="shelf.length" aria-label="Deleted lately" data-test="shelf">
      <h2>Deleted lately</h2>
      <div v-for="one in shelf" :key="one.id" class="line">
        <span class="session"
          ><bdi>{{ one.name }}</bdi>
          <span class="figures soft"
            >{{ formatBytes(one.bytes) }}, for {{ daysLeft(one) }} more {{ daysLeft(one) === 1 ? 'day' : 'days' }}</span
          ></span
        >
        <button class="plain" data-test="bring-back" :aria-label="`Bring ${one.name} back`" @click="bringBack(one)">
          bring back
        </button>
        <DeleteButton :what="one.name" :bytes="() => one.bytes" :remove="() => removeForGood(one)" />
      </div>
    </section>
  </main>
</template>

<style scoped>
.page {
  max-width: 47.5rem;
  min-height: 100%;
  margin: 0 auto;
  padding: 7vh 20px 30px;
}
.over {
  outline: 3px dashed var(--ochre);
  outline-offset: -8px;
}
h1 {
  font-size: 2.5rem;
  margin: 0;
}
h2 {
  font-size: 1.0625rem;
  margin: 34px 0 8px;
  border-bottom: 1.5px solid var(--ink);
}
.lead {
  font-size: 1.125rem;
  margin: 4px 0 0;
}
.line {
  display: flex;
  flex-wrap: wrap;
  justify-content: flex-end;
  align-items: baseline;
  gap: 0 10px;
  border-bottom: 1px solid var(--line);
}
.line a.plain {
  color: inherit;
}
.guided {
  color: inherit;
  font-weight: 700;
}
.session {
  flex: 1 1 18.75rem;
  min-width: 0;
  display: flex;
  flex-wrap: wrap;
  gap: 0 16px;
  align-items: baseline;
  padding: 9px 4px;
  color: var(--ink);
  text-decoration: none;
  overflow-wrap: anywhere;
}
a.session:hover {
  background: var(--paper-sunk);
}
.new {
  display: flex;
  gap: 8px;
  margin-top: 12px;
}
.drop {
  display: grid;
  grid-template-columns: auto minmax(0, 1fr);
  gap: 12px;
  align-items: center;
}
.on {
  color: inherit;
  font-weight: 700;
}
.rate {
  width: 8.125rem;
}
.problem {
  color: var(--vermilion);
}
</style>
