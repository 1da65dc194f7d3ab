<script setup lang="ts">
/** All sessions, and a new one. */
import { ElButton, ElInput, ElOption, ElSelect } from 'element-plus'
import { onMounted, ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, type SessionSummary } from '../api/client'
import DeleteButton from '../components/DeleteButton.vue'

const RATES = [44_100, 48_000, 88_200, 96_000]
const router = useRouter()
const sessions = ref<SessionSummary[] | null>(null)
const name = ref('')
const rate = ref(48_000)
const problem = ref('')

async function remove(session: SessionSummary) {
  await api.deleteSession(session.id)
  sessions.value = sessions.value?.filter((one) => one !== session) ?? null
}
const bytesOf = async (session: SessionSummary) => (await api.storage(session.id)).session_bytes

onMounted(async () => {
  try {
    sessions.value = await api.sessions()
  } catch (error) {
    problem.value = (error as Error).message
  }
})

async function make() {
  problem.value = ''
  try {
    const made = await api.createSession(name.value.trim(), rate.value)
    await router.push(`/session/${made.id}/gather`)
  } catch (error) {
    problem.value = (error as Error).message
  }
}
</script>

<template>
  <div class="page">
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
          :to="`/session/${session.id}/${session.n_tracks ? 'bench' : 'gather'}`">
          <strong>{{ session.name }}</strong>
          <span class="figures soft"
            >{{ session.n_tracks }} {{ session.n_tracks === 1 ? 'track' : 'tracks' }},
            {{ session.sample_rate_hz / 1000 }} kHz</span
          >
          <span v-if="session.is_demo" class="soft">made up for trying things out</span>
        </RouterLink>
        <DeleteButton :what="session.name" :bytes="() => bytesOf(session)" :remove="() => remove(session)" />
      </div>
    </section>
    <section aria-label="New session">
      <h2>New session</h2>
      <form class="new" @submit.prevent="make">
        <ElInput v-model="name" placeholder="Name" aria-label="Name of the new session" maxlength="120" />
        <ElSelect v-model="rate" aria-label="Sampling rate" class="rate">
          <ElOption v-for="hz in RATES" :key="hz" :value="hz" :label="`${hz / 1000} kHz`" />
        </ElSelect>
        <ElButton native-type="submit" type="primary" :disabled="!name.trim()">Make it</ElButton>
      </form>
      <p class="soft">
        All tracks are heard at the session's sampling rate. A track handed over keeps the rate of its own file.
      </p>
    </section>
  </div>
</template>

<style scoped>
.page {
  max-width: 660px;
  margin: 8vh auto 0;
  padding: 0 20px;
}
h1 {
  font-size: 40px;
}
h2 {
  font-size: 17px;
  margin: 34px 0 8px;
  border-bottom: 1.5px solid var(--ink);
}
.lead {
  font-size: 18px;
  margin: 4px 0 0;
}
.line {
  display: flex;
  flex-wrap: wrap;
  justify-content: flex-end;
  align-items: baseline;
  border-bottom: 1px solid var(--line);
}
.session {
  flex: 1 0 auto;
  display: flex;
  gap: 16px;
  align-items: baseline;
  padding: 9px 4px;
  color: var(--ink);
  text-decoration: none;
}
.session:hover {
  background: var(--paper-sunk);
}
.new {
  display: flex;
  gap: 8px;
  margin-top: 12px;
}
.rate {
  width: 130px;
}
.problem {
  color: var(--vermilion);
}
</style>
