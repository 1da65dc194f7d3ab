<script setup lang="ts">
/** A track at a glance: the coarsest picture of its spectrogram, in the theme's ink. */
import { computed, onBeforeUnmount, ref, watch } from 'vue'
import { pictureUrl } from '../api/client'
import { usePictures } from '../api/pictures'
import { coarsestTimeZoom } from '../lib/tiles'

const { loadSmall } = usePictures()
const props = defineProps<{ audioId: string; frames: number; columns: number; rate: number }>()
const zoom = computed(() => coarsestTimeZoom(props.frames, props.columns))
const url = computed(() => pictureUrl(props.audioId, zoom.value.timeZoom, 0, 0, 0, props.rate))
const loaded = ref('')
const AGAIN_MS = 3000
let timer = 0

function load(wanted: string) {
  window.clearTimeout(timer)
  loadSmall(wanted).then(
    () => (loaded.value = wanted),
    () => (timer = window.setTimeout(() => load(url.value), AGAIN_MS)),
  )
}
watch(url, load, { immediate: true })
onBeforeUnmount(() => window.clearTimeout(timer))
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
