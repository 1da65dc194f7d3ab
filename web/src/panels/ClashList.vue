<script setup lang="ts">
/** The clashes, strongest first; the chosen one unfolds. Keys walk through them. */
import { computed, onBeforeUnmount, onMounted, ref } from 'vue'
import { useEnsemble } from '../composables/work'
import { isTyping } from '../lib/keys'
import ClashNote from './ClashNote.vue'

const emit = defineEmits<{ bench: [stripId: string, entryId: string | null] }>()
const SHOWN_AT_FIRST = 14
const { view, fresh, clashId, clash, ordered, without, choose, loopWorst } = useEnsemble()
const all = ref(false)
/** Only those in which somebody is hidden who goes first: the others are as decided. */
const against = ref(true)
const clashes = computed(() => view.value?.clashes ?? [])
const listed = computed(() => clashes.value.filter((one) => !against.value || one.against || one.id === clashId.value))
const shown = computed(() =>
  all.value ? listed.value : listed.value.filter((one, at) => at < SHOWN_AT_FIRST || one.id === clashId.value),
)

/** The next clash or the one before, strongest first. */
function step(by: 1 | -1) {
  const list = listed.value
  const next = list.at((list.findIndex((one) => one.id === clashId.value) + by) % Math.max(list.length, 1))
  if (next && next.id !== clashId.value) choose(next.id)
}

function keyDown(event: KeyboardEvent) {
  if (isTyping(event) || event.ctrlKey || event.metaKey || event.altKey || event.repeat) return
  if (event.key === 'n') step(1)
  else if (event.key === 'N') step(-1)
  else if (event.key === 'w' && clash.value) loopWorst()
  else if (event.key === 'b' && clash.value?.entry) without.value = !without.value
  else if (event.key === 'Escape') choose(clashId.value)
}

onMounted(() => window.addEventListener('keydown', keyDown))
onBeforeUnmount(() => window.removeEventListener('keydown', keyDown))
</script>

<template>
  <div class="list" data-test="clashes">
    <p v-if="fresh && !clashes.length" class="soft empty">
      {{
        ordered.length < 2
          ? 'One track alone hides nobody.'
          : 'Nobody hides anybody here: each track is heard as well as it would be alone, or nearly.'
      }}
    </p>
    <p v-else-if="clashes.length" class="which">
      <button
        class="plain"
        :aria-pressed="against"
        data-test="against"
        title="Where somebody is hidden who goes first"
        @click="against = true">
        against the right of way
      </button>
      <button
        class="plain"
        :aria-pressed="!against"
        data-test="every"
        title="Also where the one in front hides the other, and where many hide one together"
        @click="against = false">
        all
      </button>
    </p>
    <p v-if="fresh && clashes.length && !listed.length" class="soft empty">
      Nobody who goes first is hidden. “all” shows the rest.
    </p>
    <ClashNote
      v-for="one in shown"
      :key="one.id"
      :clash="one"
      @bench="(stripId, entryId) => emit('bench', stripId, entryId)" />
    <button v-if="listed.length > shown.length" class="plain more" @click="all = true">
      {{ listed.length - shown.length }} weaker ones
    </button>
  </div>
</template>

<style scoped>
.list {
  flex: 1;
  overflow: auto;
  min-height: 0;
}
.empty {
  padding: 20px;
}
.which {
  margin: 0;
  padding: 4px 8px;
  border-bottom: 1px solid var(--line);
  font-size: 0.8125rem;
}
.which .plain {
  padding: 1px 6px;
}
.more {
  margin: 6px 10px;
  text-decoration: underline;
}
</style>
