<script setup lang="ts">
/** Rendered files and settings lists leave the house here. */
import FigureInput from '../components/FigureInput.vue'
import DeleteButton from '../components/DeleteButton.vue'
import { useBench, usePressure, useSession } from '../composables/work'
import TreatmentWord from '../panels/TreatmentWord.vue'
import { ElButton, ElCheckbox, ElCheckboxGroup, ElProgress, ElRadioButton, ElRadioGroup } from 'element-plus'
import { useQuery } from '@tanstack/vue-query'
import { computed, onBeforeUnmount, onMounted, reactive, ref, watch } from 'vue'
import { api, type HandOver, type HandOverRequest } from '../api/client'
import { queries } from '../api/reads'
import { formatBytes, formatTime } from '../lib/figures'

type Output = NonNullable<HandOverRequest['output']>
const OUTPUTS: { value: Output; label: string }[] = [
  { value: 'wav-24', label: 'WAV, 24 bit' },
  { value: 'wav-float', label: 'WAV, 32-bit float' },
  { value: 'flac-24', label: 'FLAC, 24 bit' },
]
const session = useSession()
const { state } = session
const { loop } = useBench()
const what = ref<HandOverRequest['what']>('tracks')
const trackIds = ref<string[]>([])
const groupIds = ref<string[]>([])
const tailS = ref(0)
const standIns = ref(false)
const groups = computed(() => state.value.groups.filter((group) => standIns.value || !group.stand_in))
const { standsIn } = usePressure()
const output = ref<Output>('wav-24')
const stretch = ref<'song' | 'loop'>('song')
const faders = ref(false)
const levelMatch = ref(false)
const problem = ref('')
const listing = useQuery(
  {
    queryKey: ['handovers', session.id],
    queryFn: () => api.handovers(session.id),
    staleTime: 0,
    shallow: true,
  },
  queries,
)
const progress = reactive(new Map<string, number>())
/** How far a hand-over is, the news tell; what came of it is read anew. */
const stopHearing = session.news.on((one) => {
  if (one.about === 'missed') void listing.refetch()
  if (one.about !== 'product' || one.kind !== 'hand-over') return
  progress.set(one.id, one.progress ?? 0)
  const known = listing.data.value?.find(({ id }) => id === one.id)
  if (known?.status !== one.status) void listing.refetch()
})
onBeforeUnmount(stopHearing)
const list = computed(() =>
  (listing.data.value ?? []).map((one) => ({ ...one, progress: progress.get(one.id) ?? one.progress })),
)
const isUnderWay = (one: HandOver) => one.status === 'waiting' || one.status === 'running'

const treated = computed(() => state.value?.tracks.filter((track) => track.ledger.length) ?? [])
const ready = computed(
  () => what.value === 'mix' || (what.value === 'groups' ? groupIds.value : trackIds.value).length > 0,
)
const settings = (suffix: string, trackId?: string) => {
  const only = trackId ? `&track_id=${trackId}` : ''
  return `/api/sessions/${session.id}/settings-list${suffix}?treatment=${session.treatment.value}${only}`
}

// Common ground: tracks go out as they came in, the mix as it was heard.
watch(what, (now) => (faders.value = levelMatch.value = now === 'mix'))

onMounted(() => (trackIds.value = treated.value.map((track) => track.id)))

async function render() {
  problem.value = ''
  try {
    await api.handOver(session.id, {
      what: what.value,
      treatment: session.treatment.value,
      track_ids: what.value === 'tracks' ? trackIds.value : [],
      group_ids: what.value === 'groups' ? groupIds.value : [],
      tail_s: what.value === 'tracks' ? 0 : tailS.value,
      stand_ins: standIns.value,
      output: output.value,
      stretch: stretch.value,
      faders: faders.value,
      level_match: levelMatch.value,
    })
    await listing.refetch()
  } catch (error) {
    problem.value = (error as Error).message
  }
}

async function cancel(one: HandOver) {
  await api.cancel(one.id).catch((error: Error) => (problem.value = error.message))
  await listing.refetch()
}

async function remove(one: HandOver) {
  await api.deleteHandOver(one.id)
  await listing.refetch()
}
const bytesOf = async (one: HandOver) => (await api.storage(session.id)).handover_bytes[one.id] ?? 0
const nameOf = (one: HandOver) => {
  const format = OUTPUTS.find((known) => known.value === one.request.output)?.label ?? ''
  const of = one.request.what === 'groups' ? 'group' : 'track'
  const n = (one.request.what === 'groups' ? one.request.group_ids : one.request.track_ids)?.length ?? 0
  const subject = one.request.what === 'mix' ? 'The mix' : `${n} ${n === 1 ? of : `${of}s`}`
  return `${subject}, ${one.request.stretch === 'loop' ? 'the loop' : 'the whole song'}, ${format}`
}
</script>

<template>
  <div class="page">
    <section class="ask" aria-label="Render files">
      <h2>Render files</h2>
      <ElRadioGroup v-model="what" aria-label="What"
        ><ElRadioButton value="tracks">Tracks</ElRadioButton
        ><ElRadioButton value="groups" :disabled="!groups.length">Groups</ElRadioButton
        ><ElRadioButton value="mix">The mix</ElRadioButton></ElRadioGroup
      >
      <template v-if="what === 'tracks'">
        <p class="soft">
          <button class="plain link" @click="trackIds = treated.map((track) => track.id)">those with moves</button>
          <button class="plain link" @click="trackIds = state?.tracks.map((track) => track.id) ?? []">all</button>
          <button class="plain link" @click="trackIds = []">none</button>
        </p>
        <ElCheckboxGroup v-model="trackIds" class="tracks">
          <ElCheckbox v-for="track in state?.tracks ?? []" :key="track.id" :value="track.id" :label="track.name">
            {{ track.name }}
            <span class="figures soft"
              >{{ track.ledger.length }} {{ track.ledger.length === 1 ? 'move' : 'moves'
              }}{{ track.ledger_on || !track.ledger.length ? '' : ', off' }}</span
            >
          </ElCheckbox>
        </ElCheckboxGroup>
        <p class="soft">Same start, length, channels, rate and name as the file that came in, plus “mivlo”.</p>
      </template>
      <template v-if="what === 'groups'">
        <ElCheckboxGroup v-model="groupIds" class="tracks">
          <ElCheckbox v-for="group in groups" :key="group.id" :value="group.id" :label="group.name" />
        </ElCheckboxGroup>
        <p class="soft">What a track sends to a group is in the group's file, never in the track's.</p>
      </template>
      <div class="row">
        <span class="soft">Format</span>
        <ElRadioGroup v-model="output" aria-label="Format"
          ><ElRadioButton v-for="known in OUTPUTS" :key="known.value" :value="known.value">{{
            known.label
          }}</ElRadioButton></ElRadioGroup
        >
      </div>
      <div class="row">
        <span class="soft">Stretch</span>
        <ElRadioGroup v-model="stretch" aria-label="Stretch"
          ><ElRadioButton value="song">Whole song</ElRadioButton>
          <ElRadioButton value="loop" :disabled="!loop"
            >Loop{{ loop ? ` ${formatTime(loop.startS)}–${formatTime(loop.endS)}` : ' (none set)' }}</ElRadioButton
          ></ElRadioGroup
        >
      </div>
      <div class="row">
        <ElCheckbox
          v-model="faders"
          :label="what === 'mix' ? 'with gain and pan' : 'with the gain set in Gather'" /><ElCheckbox
          v-model="levelMatch"
          label="level-matched" /><ElCheckbox
          v-if="standsIn"
          v-model="standIns"
          label="with stand-ins: as somebody else may do it later" />
      </div>
      <FigureInput
        v-if="what !== 'tracks'"
        label="Tail"
        unit="s"
        :value="tailS"
        :minimum="0"
        :maximum="10"
        title="So much longer than the song, for what rings on"
        @commit="tailS = $event ?? 0" />
      <ElButton type="primary" data-test="render" :disabled="!ready" @click="render">Render</ElButton>
      <p v-if="problem" class="problem" role="alert">{{ problem }}</p>
    </section>
    <section aria-label="Rendered">
      <h2>Rendered</h2>
      <p v-if="!list.length" class="soft">Nothing rendered yet.</p>
      <article v-for="one in list" :key="one.id" data-test="handover" :class="one.status">
        <div class="head">
          <strong>{{ nameOf(one) }}</strong>
          <button v-if="one.status === 'waiting' || one.status === 'running'" class="plain boxed" @click="cancel(one)">
            cancel
          </button>
          <a v-if="one.status === 'done' && one.files.length > 1" :href="`/api/handovers/${one.id}/all`" download
            >all as one zip</a
          >
          <DeleteButton
            v-if="!isUnderWay(one)"
            :what="nameOf(one)"
            :bytes="() => bytesOf(one)"
            :remove="() => remove(one)" />
        </div>
        <ElProgress v-if="one.status === 'running'" :percentage="Math.round(one.progress * 100)" />
        <p v-else-if="one.status === 'waiting'" class="soft">waits for its turn</p>
        <p v-else-if="one.status === 'cancelled'" class="soft">cancelled; nothing was kept</p>
        <p v-else-if="one.status === 'failed'" class="problem">failed: {{ one.message }}</p>
        <ul v-else>
          <li v-for="(file, index) in one.files" :key="file.name">
            <a :href="`/api/handovers/${one.id}/files/${index}`" data-test="download" download>{{ file.name }}</a>
            {{ ' ' }}<span class="figures soft">{{ formatBytes(file.bytes) }}</span>
            <span v-if="file.clipped_samples" class="problem">
              {{ file.clipped_samples }} samples over full scale were clipped: turn it down, or choose float</span
            >
          </li>
        </ul>
      </article>
      <h2>Settings list <TreatmentWord /></h2>
      <p>The moves written out for any equalizer elsewhere, with the Q convention stated.</p>
      <p>
        <a :href="settings('')" target="_blank">All tracks, one page to print</a> ·
        <a :href="settings('.csv')" download>as CSV</a>
      </p>
      <p v-for="track in treated" :key="track.id">
        {{ track.name }}: <a :href="settings('', track.id)" target="_blank">page</a> ·
        <a :href="settings('.csv', track.id)" download>CSV</a>
      </p>
    </section>
  </div>
</template>

<style scoped>
.page {
  height: 100%;
  overflow: auto;
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
  gap: 40px;
  padding: 8px 24px 24px;
}
h2 {
  font-size: 1.0625rem;
  margin: 16px 0 12px;
  border-bottom: 1.5px solid var(--ink);
}
.ask > * {
  margin-bottom: 12px;
}
.tracks {
  display: grid;
  grid-template-columns: 1fr 1fr;
}
.row {
  display: flex;
  gap: 14px;
  align-items: center;
}
.row > .soft {
  width: 3.5rem;
}
article {
  border-bottom: 1px solid var(--line);
  padding: 6px 0;
}
.head {
  display: flex;
  gap: 12px;
  align-items: baseline;
}
ul {
  margin: 4px 0;
  padding-left: 18px;
}
a {
  color: var(--ink);
  display: inline-block;
}
.link {
  text-decoration: underline;
}
.problem {
  color: var(--vermilion);
}
</style>
