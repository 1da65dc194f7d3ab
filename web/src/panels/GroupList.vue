<script setup lang="ts">
/** The groups' places in the session. */
import type { Group, GroupFields } from '../api/client'
import FigureInput from '../components/FigureInput.vue'
import { useSession } from '../composables/work'
import { setGroup } from '../lib/intents'

const { state, chosenId, edit } = useSession()
const set = (group: Group, label: string, fields: GroupFields) =>
  edit(`${group.name}: ${label}`, [setGroup(group, fields)])
const membersOf = (group: Group) =>
  state.value.tracks
    .filter((track) => track.group_id === group.id)
    .map((track) => track.name)
    .join(', ')
</script>

<template>
  <section v-if="state.groups.length" class="groups" aria-label="Groups">
    <h2>Groups</h2>
    <div v-for="group in state.groups" :key="group.id" class="group">
      <input
        class="name"
        :value="group.name"
        maxlength="120"
        :aria-label="`Name of group ${group.name}`"
        @change="set(group, 'name', { name: ($event.target as HTMLInputElement).value.trim() || group.name })" />
      <span class="soft">{{ membersOf(group) || 'no tracks' }}</span>
      <FigureInput
        bare
        :label="`Gain of group ${group.name}`"
        unit="dB"
        :value="group.gain_db ?? 0"
        :minimum="-60"
        :maximum="24"
        @commit="set(group, 'gain', { gain_db: $event ?? 0 })" />
      <button class="plain boxed" :aria-pressed="group.solo" @click="set(group, 'solo', { solo: !group.solo })">
        solo
      </button>
      <button class="plain boxed" :aria-pressed="group.mute" @click="set(group, 'mute', { mute: !group.mute })">
        mute
      </button>
      <RouterLink :to="`/session/${state.id}/bench`" @click="chosenId = group.id">to the bench</RouterLink>
      <button
        class="plain"
        title="The tracks stay, without the group"
        @click="edit(`Dissolve ${group.name}`, [{ do: 'remove-group', group_id: group.id }])">
        dissolve
      </button>
    </div>
  </section>
</template>

<style scoped>
.groups {
  margin-top: 18px;
}
.groups h2 {
  font-size: 15px;
  margin: 0 0 6px;
}
.group {
  display: flex;
  gap: 12px;
  align-items: center;
  padding: 4px 0;
  border-top: 1px solid var(--line);
}
.group .soft {
  flex: 1;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.group a {
  color: var(--ink);
}
.name {
  font: inherit;
  color: inherit;
  background: none;
  border: 0;
  border-bottom: 1px solid transparent;
  width: 118px;
}
.name:hover,
.name:focus {
  border-bottom-color: var(--ink-soft);
}
</style>
