<script setup lang="ts">
/** A track at a glance: the coarsest picture of its spectrogram, in the theme's ink. */
import { computed } from 'vue'
import { pictureUrl } from '../api/client'
import { coarsestTimeZoom } from '../lib/tiles'

const props = defineProps<{ audioId: string; frames: number; columns: number; rate: number }>()
const style = computed(() => {
  const zoom = coarsestTimeZoom(props.frames, props.columns)
  const url = `url(${pictureUrl(props.audioId, zoom.timeZoom, 0, 0, 0, props.rate)})`
  const size = `${100 / zoom.part}% 100%`
  return { maskImage: url, maskSize: size, maskRepeat: 'no-repeat' }
})
</script>

<template><div class="picture" :style="style" aria-hidden="true"></div></template>

<style scoped>
.picture { height: 100%; width: 100%; background: var(--ink); }
</style>
