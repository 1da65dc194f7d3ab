<script setup lang="ts">
/** A track at a glance: the coarsest picture of its spectrogram, in the theme's ink. */
import { computed, onBeforeUnmount, ref, watch } from 'vue'
import type { Place } from '../api/analyses'
import { usePictures } from '../api/pictures'
import { coarsestTimeZoom } from '../lib/tiles'

const { loadSmall } = usePictures()
const props = defineProps<{
  /** Which file it is of: another file is another picture. */
  audioId: string
  frames: number
  columns: number
  address: (place: Place, signal: AbortSignal) => Promise<string>
}>()
const zoom = computed(() => coarsestTimeZoom(props.frames, props.columns))
const loaded = ref('')
const AGAIN_MS = 3000
let timer = 0
let asking = new AbortController()

function load() {
  window.clearTimeout(timer)
  asking.abort()
  asking = new AbortController()
  const { signal } = asking
  const place = { time_zoom: zoom.value.timeZoom, column: 0, freq_zoom: 0, row: 0 }
  loadSmall(() => props.address(place, signal), signal).then(
    (url) => (loaded.value = url),
    () => signal.aborted || (timer = window.setTimeout(load, AGAIN_MS)),
  )
}
watch(() => [props.audioId, zoom.value.timeZoom], load, { immediate: true })
onBeforeUnmount(() => {
  window.clearTimeout(timer)
  asking.abort()
})
const style = computed(() => ({
  maskImage: `url(${loaded.value})`,
  maskSize: `${100 / zoom.value.part}% 100%`,
  maskRepeat: 'no-repeat',
  opacity: loaded.value ? 1 : 0,
}))
</script>

<template><div class="picture" :style="style" aria-hidden="true"></div></template>

<style scoped>
.picture {
  height: 100%;
  width: 100%;
  background: var(--ink);
}
</style>
