<script setup lang="ts">
/** A button that acts while it is held, with the pointer or the space bar. */
const emit = defineEmits<{ hold: []; release: [] }>()
</script>

<template>
  <button class="plain boxed" @pointerdown.prevent="emit('hold')" @pointerup="emit('release')" @pointerleave="emit('release')" @pointercancel="emit('release')"
    @keydown.space.prevent="$event.repeat || emit('hold')" @keyup.space="emit('release')" @blur="emit('release')"><slot /></button>
</template>
