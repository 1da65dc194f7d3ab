<script setup lang="ts" generic="T extends string | boolean">
/** Some buttons side by side, one of them pressed. */
export interface Choice<T> {
  readonly is: T
  readonly label: string
  readonly title?: string
  readonly test?: string
  readonly busy?: boolean
}

const { label, choices } = defineProps<{ label: string; choices: readonly Choice<T>[] }>()
const chosen = defineModel<T>({ required: true })
</script>

<template>
  <span class="one-of" role="group" :aria-label="label">
    <button
      v-for="one in choices"
      :key="String(one.is)"
      class="plain boxed"
      :aria-pressed="chosen === one.is"
      :aria-busy="one.busy || undefined"
      :title="one.title"
      :data-test="one.test"
      @click="chosen = one.is">
      {{ one.label }}
    </button>
  </span>
</template>

<style scoped>
.one-of {
  display: inline-flex;
}
.one-of > button + button {
  margin-left: -1px;
}
</style>
