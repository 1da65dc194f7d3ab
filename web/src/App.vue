<script setup lang="ts">
/** The frame around every screen: bar, notices, keys that work everywhere. */
import { computed, onBeforeUnmount, onMounted } from 'vue'
import { useRoute } from 'vue-router'
import TopBar from './components/TopBar.vue'
import { isTyping } from './lib/keys'
import { useEnsemble } from './composables/useEnsemble'
import { usePlay } from './composables/usePlay'
import { useSession } from './composables/useSession'

const route = useRoute()
const { state, chosen, saveState, trouble, undo, redo } = useSession()
const play = usePlay()
const { playing, positionFrame, rate, dim, meter, connection, message } = play
const ensemble = useEnsemble()
/** In the Ensemble, "alone" is the two tracks that are looked at. */
const together = computed(() => route.path.endsWith('/ensemble'))
const alone = computed({
  get: () => (together.value ? ensemble.alone.value : play.alone.value),
  set: (is) => (together.value ? (ensemble.alone.value = is) : (play.alone.value = is)),
})
const aloneName = computed(() => (together.value ? 'the two chosen tracks' : (chosen.value?.name ?? 'the track')))
const position = () => positionFrame.value / rate.value
const inSession = computed(() => route.path.startsWith('/session/') && state.value)
const aheadMs = computed(() => (playing.value && meter.value && meter.value.queue_ms > meter.value.base_queue_ms + 1 ? Math.round(meter.value.queue_ms) : null))

const THEME = 'mivlo-theme'
const setTheme = (theme: string) => {
  document.documentElement.dataset['theme'] = theme
  localStorage.setItem(THEME, theme)
}
setTheme(localStorage.getItem(THEME) ?? 'day')
const switchTheme = () => setTheme(document.documentElement.dataset['theme'] === 'night' ? 'day' : 'night')

function key(event: KeyboardEvent) {
  if (!inSession.value || isTyping(event)) return
  const command = event.ctrlKey || event.metaKey
  if (command && event.code === 'KeyZ') {
    event.preventDefault()
    void (event.shiftKey ? redo() : undo())
  } else if (command || event.altKey) return
  else if (event.code === 'Space' && !(event.target instanceof HTMLButtonElement)) {
    event.preventDefault()
    play.toggle()
  } else if (event.key === 'a') alone.value = !alone.value
}
onMounted(() => window.addEventListener('keydown', key))
onBeforeUnmount(() => window.removeEventListener('keydown', key))
</script>

<template>
  <div class="frame">
    <TopBar v-if="inSession && state" :session-id="state.id" :name="state.name" :playing="playing" :position="position"
      :alone="alone" :alone-name="aloneName" :dim="dim" :peak-db="meter?.peak_db ?? null"
      :loudness-lufs="meter?.momentary_lufs ?? null" :guard-db="meter?.guard_db ?? 0" :undo-label="state.undo_label"
      :redo-label="state.redo_label" :save-state="saveState" :ahead-ms="aheadMs" @toggle="play.toggle" @alone="alone = $event" @dim="dim = !dim" @undo="undo"
      @redo="redo" @theme="switchTheme" />
    <div class="notices">
      <div v-if="connection === 'lost'" class="notice" role="alert">The connection to the sound is lost; play has stopped. Trying to connect again.</div>
      <div v-if="message" class="notice" role="alert">{{ message }} <button class="plain" @click="message = ''">close</button></div>
      <div v-if="trouble && saveState === 'failed'" class="notice" role="alert">{{ trouble }} <button class="plain" @click="saveState = 'saved'">close</button></div>
    </div>
    <main><RouterView /></main>
  </div>
</template>

<style scoped>
.frame { height: 100%; display: flex; flex-direction: column; position: relative; }
main { flex: 1; min-height: 0; }
/* Over the screen, not above it: nothing may move under the pointer of somebody who sweeps. */
.notices { position: absolute; top: 50px; left: 50%; transform: translateX(-50%); z-index: 10; display: grid; gap: 4px; }
.notice { padding: 6px 14px; background: var(--paper-raised); border: 1.5px solid var(--vermilion); border-left-width: 6px; }
</style>
