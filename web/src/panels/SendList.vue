<script setup lang="ts">
/** What is sent into a group beside what is in it: who, and how loud. */
import { computed } from 'vue'
import type { Group, Strip } from '../api/client'
import FigureInput from '../components/FigureInput.vue'
import { useSession } from '../composables/work'
import { setSend } from '../lib/intents'
import { fedBy } from '../lib/routing'

const props = defineProps<{ group: Group }>()
const { state, edit } = useSession()

const strips = computed((): Strip[] => [...state.value.tracks, ...state.value.groups])
const levelOf = (strip: Strip) => strip.sends?.find((send) => send.to_id === props.group.id)?.level_db
const senders = computed(() => strips.value.filter((strip) => levelOf(strip) !== undefined))
const others = computed(() => {
  const reached = fedBy(state.value.groups, props.group.id).add(props.group.id)
  return strips.value.filter((strip) => !reached.has(strip.id) && !senders.value.includes(strip))
})

function send(strip: Strip | undefined, levelDb: number | null, label: string) {
  if (strip) void edit(`${strip.name}: ${label} ${props.group.name}`, [setSend(strip, props.group.id, levelDb)])
}

/** Send a track or group here, and let the choice stand at nothing again. */
function add(event: Event) {
  const select = event.target as HTMLSelectElement
  send(
    others.value.find((strip) => strip.id === select.value),
    0,
    'sent to',
  )
  select.value = ''
}
</script>

<template>
  <span class="sends" data-test="sends">
    <span v-if="senders.length" class="soft">sent there</span>
    <span v-for="strip in senders" :key="strip.id" class="one">
      {{ strip.name }}
      <FigureInput
        bare
        :label="`Send of ${strip.name} to ${group.name}`"
        unit="dB"
        :value="levelOf(strip) ?? 0"
        :minimum="-60"
        :maximum="24"
        @commit="send(strip, $event ?? 0, 'level of what is sent to')" />
      <button
        class="plain"
        :aria-label="`Send ${strip.name} to ${group.name} no longer`"
        title="No longer sent there"
        @click="send(strip, null, 'no longer sent to')">
        ×
      </button>
    </span>
    <select
      v-if="others.length"
      class="in-line"
      value=""
      :aria-label="`Send a track or group to ${group.name}`"
      title="A copy behind its fader goes here too"
      @change="add">
      <option value="">send …</option>
      <option v-for="strip in others" :key="strip.id" :value="strip.id">{{ strip.name }}</option>
    </select>
  </span>
</template>

<style scoped>
.sends {
  display: flex;
  flex-wrap: wrap;
  gap: 2px 12px;
  align-items: center;
}
.one {
  display: flex;
  gap: 4px;
  align-items: center;
}
.one .plain {
  padding: 0 4px;
}
select {
  width: 78px;
}
</style>
