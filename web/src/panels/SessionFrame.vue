<script setup lang="ts">
/** The frame around every screen of a session: bar, notices, keys that work everywhere. */
import { computed, onBeforeUnmount, onMounted, provide, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { WORK, type Work } from '../composables/work'
import { LETTERS } from '../composables/useTreatments'
import { isTyping, type Screen } from '../lib/keys'
import { switchTheme } from '../lib/theme'
import FootLine from './FootLine.vue'
import PressurePanel from './PressurePanel.vue'
import RemarkForm from './RemarkForm.vue'
import KeyList from '../components/KeyList.vue'
import TopBar from '../components/TopBar.vue'
import TreatmentTabs from './TreatmentTabs.vue'

const props = defineProps<{ work: Work }>()
provide(WORK, props.work)
const route = useRoute()
const router = useRouter()
const { session, play, ensemble, pressure, treatments, blind, references, remarks } = props.work
const { open: pressureOpen } = pressure
const { state, chosen, pending, saveState, trouble, undo, redo } = session
const { playing, positionFrame, rate, dim, late, meter, connection, message } = play

/** In the Ensemble, "alone" is the two tracks that are looked at. */
const together = computed(() => route.path.endsWith('/ensemble'))
const screen = computed(() => route.path.split('/').at(-1) as Screen)
const keysShown = ref(false)
const alone = computed({
  get: () => (together.value ? ensemble.alone.value : play.alone.value),
  set: (is) => (together.value ? (ensemble.alone.value = is) : (play.alone.value = is)),
})
const aloneName = computed(() => (together.value ? 'the two chosen tracks' : (chosen.value?.name ?? 'the track')))
const position = () => positionFrame.value / rate.value
const waitingText = computed(() => {
  const n = pending.value.length
  return n ? `${n} edit${n === 1 ? ' waits' : 's wait'} to be saved: “${pending.value.at(-1)?.label}”.` : ''
})

const isLetter = (key: string): key is (typeof LETTERS)[number] => (LETTERS as readonly string[]).includes(key)

function key(event: KeyboardEvent) {
  if (isTyping(event) || (blind.running.value && !blind.running.value.result)) return
  const command = event.ctrlKey || event.metaKey
  if (command && event.code === 'KeyZ') {
    event.preventDefault()
    void (event.shiftKey ? redo() : undo())
  } else if (command || event.altKey) return
  else if (event.code === 'Space' && !(event.target instanceof HTMLButtonElement)) {
    event.preventDefault()
    play.toggle()
  } else if (event.shiftKey && isLetter(event.key)) treatments.go(event.key)
  else if (event.key === 'a') alone.value = !alone.value
  else if (event.key === 'u') pressure.turn()
  else if (event.key === '?') keysShown.value = !keysShown.value
  else if (event.key === 'Escape') keysShown.value = false
  else if (event.key === 'm') pressure.nextEars()
  else if (event.key === 'r' && !event.repeat) void references.hear(true)
  else if (event.key === 'e') {
    event.preventDefault()
    remarks.begin()
  }
}
function keyUp(event: KeyboardEvent) {
  if (event.key.toLowerCase() === 'r') void references.hear(false)
}
/** Whoever goes to another window with a key held would not be seen to let it go. */
const letGo = () => void references.hear(false)
onMounted(() => {
  if ('guide' in route.query) {
    props.work.guide.begin()
    void router.replace({ path: route.path })
  }
  window.addEventListener('keydown', key)
  window.addEventListener('keyup', keyUp)
  window.addEventListener('blur', letGo)
})
onBeforeUnmount(() => {
  window.removeEventListener('keydown', key)
  window.removeEventListener('keyup', keyUp)
  window.removeEventListener('blur', letGo)
})
</script>

<template>
  <div class="frame">
    <TopBar
      :session-id="session.id"
      :name="state.name"
      :playing="playing"
      :position="position"
      :alone="alone"
      :alone-name="aloneName"
      :dim="dim"
      :peak-db="meter?.peak_db ?? null"
      :loudness-lufs="meter?.momentary_lufs ?? null"
      :guard-db="meter?.guard_db ?? 0"
      :undo-label="state.undo?.label ?? null"
      :redo-label="state.redo?.label ?? null"
      :save-state="saveState"
      :late="late && playing"
      :pressure="play.pressure.value"
      :through="play.through.value.kind"
      @toggle="play.toggle"
      @pressure="pressure.turn"
      @alone="alone = $event"
      @dim="dim = !dim"
      @undo="undo"
      @redo="redo"
      @theme="switchTheme"
      ><TreatmentTabs
    /></TopBar>
    <div class="notices">
      <div v-if="connection === 'lost'" class="notice" role="alert">
        The connection to the sound is lost; play has stopped. Trying to connect again.
      </div>
      <div v-if="saveState === 'waiting'" class="notice" role="alert" data-test="edits-wait">
        The database does not answer. {{ waitingText }} Nothing is lost as long as this page stays open.
      </div>
      <div v-if="message" class="notice" role="alert">
        {{ message }} <button class="plain" @click="message = ''">close</button>
      </div>
      <div v-if="trouble && saveState === 'failed'" class="notice" role="alert">
        {{ trouble }} <button class="plain" @click="saveState = 'saved'">close</button>
      </div>
    </div>
    <main><RouterView /></main>
    <FootLine @keys="keysShown = !keysShown" />
    <KeyList v-if="keysShown" :screen="screen" @close="keysShown = false" />
    <PressurePanel v-if="pressureOpen" />
    <RemarkForm v-if="remarks.atS.value !== null" />
  </div>
</template>

<style scoped>
.frame {
  height: 100%;
  display: flex;
  flex-direction: column;
  position: relative;
}
main {
  flex: 1;
  min-height: 0;
}
/* Over the screen, not above it: nothing may move under the pointer of somebody who sweeps. */
.notices {
  position: absolute;
  top: 50px;
  left: 50%;
  transform: translateX(-50%);
  z-index: 10;
  display: grid;
  gap: 4px;
}
.notice {
  padding: 6px 14px;
  background: var(--paper-raised);
  border: 1.5px solid var(--vermilion);
  border-left-width: 6px;
}
</style>
