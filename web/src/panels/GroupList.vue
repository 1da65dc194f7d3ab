<script setup lang="ts">
/** The groups' places in the session: what is in them, what is sent there, and where they go themselves. */
import type { Group, GroupFields } from '../api/client'
import FigureInput from '../components/FigureInput.vue'
import { useSession } from '../composables/work'
import { setGroup } from '../lib/intents'
import { newId } from '../lib/moves'
import { fedBy } from '../lib/routing'
import SendList from './SendList.vue'

const { state, chosenId, edit } = useSession()
const set = (group: Group, label: string, fields: GroupFields) =>
  edit(`${group.name}: ${label}`, [setGroup(group, fields)])
const membersOf = (group: Group) =>
  [...state.value.tracks, ...state.value.groups]
    .filter((strip) => strip.group_id === group.id)
    .map((strip) => strip.name)
    .join(', ')

const mayBeIn = (group: Group) =>
  state.value.groups.filter((other) => other.id !== group.id && !fedBy(state.value.groups, other.id).has(group.id))

const make = () =>
  edit('New group', [{ do: 'add-group', group_id: newId(), name: `Group ${state.value.groups.length + 1}` }])
</script>

<template>
  <section class="groups" aria-label="Groups">
    <h2>
      Groups
      <button class="plain boxed" title="Tracks and groups join it, or are sent there" @click="make">
        a new group
      </button>
    </h2>
    <div v-for="group in state.groups" :key="group.id" class="group">
      <input
        class="name"
        :value="group.name"
        maxlength="120"
        :aria-label="`Name of group ${group.name}`"
        @change="set(group, 'name', { name: ($event.target as HTMLInputElement).value.trim() || group.name })" />
      <span class="within">
        <span class="soft members" :title="membersOf(group)">{{ membersOf(group) || 'no members' }}</span>
        <SendList :group="group" />
      </span>
      <label class="soft">
        in
        <select
          class="in-line"
          :value="group.group_id ?? ''"
          :aria-label="`Group of ${group.name}`"
          @change="set(group, 'into a group', { group_id: ($event.target as HTMLSelectElement).value || null })">
          <option value="">the mix</option>
          <option v-for="other in mayBeIn(group)" :key="other.id" :value="other.id">{{ other.name }}</option>
        </select>
      </label>
      <FigureInput
        bare
        :label="`Gain of group ${group.name}`"
        unit="dB"
        :value="group.gain_db ?? 0"
        :minimum="-60"
        :maximum="24"
        @commit="set(group, 'gain', { gain_db: $event ?? 0 })" />
      <button
        class="plain boxed"
        :aria-pressed="group.solo"
        :aria-label="`Solo ${group.name}`"
        @click="set(group, 'solo', { solo: !group.solo })">
        solo
      </button>
      <button
        class="plain boxed"
        :aria-pressed="group.mute"
        :aria-label="`Mute ${group.name}`"
        @click="set(group, 'mute', { mute: !group.mute })">
        mute
      </button>
      <button
        class="plain boxed"
        :aria-pressed="group.stand_in"
        title="It stands for a room or the like of later: what is sent there is heard in the pressure test only"
        @click="set(group, 'stand-in', { stand_in: !group.stand_in })">
        stand-in
      </button>
      <RouterLink :to="`/session/${state.id}/bench`" @click="chosenId = group.id">to the bench</RouterLink>
      <button
        class="plain"
        title="What is in it stays, and goes where the group went"
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
  font-size: 0.9375rem;
  margin: 0 0 6px;
}
.group {
  display: flex;
  gap: 12px;
  align-items: center;
  padding: 4px 0;
  border-top: 1px solid var(--line);
}
.within {
  flex: 1;
  min-width: 0;
  display: flex;
  flex-wrap: wrap;
  gap: 2px 14px;
  align-items: center;
}
.members {
  max-width: 100%;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.groups h2 button {
  font-size: 0.875rem;
  font-weight: 400;
  margin-left: 10px;
}
select {
  max-width: 110px;
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
