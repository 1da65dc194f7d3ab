<script setup lang="ts">
/** How much two who play lose beside one another, on both sides. */
import { lastingStripsOf } from '../lib/intents'
import { computed, ref, watch } from 'vue'
import type { Treatment } from '../api/client'
import StripSelect from '../components/StripSelect.vue'
import { useRead } from '../api/reads'
import { useSession } from '../composables/work'

const props = defineProps<{ other: Treatment | null; names: readonly [string, string] }>()
const { state, version, analyse } = useSession()
const players = computed(() =>
  lastingStripsOf(state.value).filter((one) => one.id !== state.value.master.id && !one.group_id && !one.mute),
)
const one = ref('')
const second = ref('')
watch(
  players,
  (now) => {
    const ids = now.map((player) => player.id)
    const order = state.value.right_of_way.order?.filter((id) => ids.includes(id)) ?? []
    const [first = '', next = ''] = [...order, ...ids.filter((id) => !order.includes(id))]
    if (!ids.includes(one.value)) one.value = first
    if (!ids.includes(second.value)) second.value = next
  },
  { immediate: true },
)
const { answer, problem, waiting } = useRead(
  'masking',
  () =>
    one.value && second.value && one.value !== second.value
      ? { strip_ids: [one.value, second.value], other: props.other, version: version.value }
      : null,
  ({ strip_ids, other }, signal) => analyse('masking', { strip_ids, other }, signal),
  () => `${one.value} ${second.value} ${props.other}`,
)
const nameOf = (id: string) => players.value.find((player) => player.id === id)?.name ?? ''
const shareText = (percent: number | null | undefined) =>
  percent == null ? 'never together' : `${percent.toFixed(0)} %`
</script>

<template>
  <div v-if="players.length > 1">
    <p class="row">
      <b>Lost of each</b> while <StripSelect v-model="one" :strips="players" label="One" /> and
      <StripSelect v-model="second" :strips="players" label="The other" /> play together
    </p>
    <p v-if="problem" class="problem" role="alert">{{ problem }}</p>
    <table v-else-if="answer" class="shares" data-test="masking">
      <thead>
        <tr>
          <th scope="col"><span class="unseen">of whom</span></th>
          <th scope="col">{{ names[0] }}</th>
          <th scope="col">{{ names[1] }}</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="share in answer" :key="share.strip_id">
          <th scope="row">{{ nameOf(share.strip_id) }}</th>
          <td class="figures">{{ shareText(share.before_percent) }}</td>
          <td class="figures">{{ shareText(share.after_percent) }}</td>
        </tr>
      </tbody>
    </table>
    <p v-else-if="waiting" class="soft" role="status">listening to both …</p>
    <p v-else class="soft">Choose two of those who play.</p>
  </div>
</template>

<style scoped>
.row {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 6px;
  align-items: center;
  margin: 0 0 4px;
  font-size: 0.875rem;
}
.problem {
  color: var(--vermilion);
}
</style>
