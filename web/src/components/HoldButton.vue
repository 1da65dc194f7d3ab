<script setup lang="ts">
/** A button that acts while it is held, with the pointer or the space bar. */
const emit = defineEmits<{ hold: []; release: [] }>()
let held = false

function hold() {
  if (held) return
  held = true
  emit('hold')
}

function release() {
  if (held) emit('release')
  held = false
}
</script>

<template>
  <button class="plain boxed" @pointerdown.prevent="hold" @pointerup="release" @pointerleave="release" @pointercancel="release" @keydown.space.prevent="hold" @keyup.space="release" @blur="release"><slot /></button>
</template>
