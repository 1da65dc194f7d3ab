<script setup lang="ts">
/**
 * A button that acts while it is held, with the pointer (wherever that goes meanwhile, or the page moves under it) or
 * the space bar.
 */
import { onBeforeUnmount } from 'vue'

const emit = defineEmits<{ hold: []; release: [] }>()
let held = false

function hold() {
  if (held) return
  held = true
  emit('hold')
}

function press(event: PointerEvent) {
  ;(event.currentTarget as HTMLElement).setPointerCapture(event.pointerId)
  hold()
}

function release() {
  if (held) emit('release')
  held = false
}
onBeforeUnmount(release)
</script>

<template>
  <button
    class="plain boxed"
    @pointerdown.prevent="press"
    @pointerup="release"
    @pointercancel="release"
    @lostpointercapture="release"
    @keydown.space.prevent="hold"
    @keyup.space="release"
    @blur="release">
    <slot />
  </button>
</template>
