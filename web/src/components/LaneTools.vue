<script setup lang="ts">
/** What the lanes show: small switches in the corner of each, out of the way of the pointer. */
import { computed } from 'vue'
import { usePlay } from '../composables/usePlay'
import { useViews } from '../composables/useViews'

const props = defineProps<{ of: 'spectrogram' | 'spectrum'; hasMoves: boolean; others: { id: string; name: string }[] }>()
const { picture, pitchShown, pitch, behindId, holding, frozen, treated } = useViews()
const { heldProbes } = usePlay()
const PICTURES = ['before', 'after', 'difference'] as const
const TOLD = { before: 'As it came', after: 'Behind its moves', difference: 'What the moves take away, in green' }
const pitchTold = computed(() => {
  if (!pitchShown.value) return 'pitch line'
  if (!pitch.value) return 'pitch line …'
  return pitch.value.one_voice ? 'pitch line' : 'no one voice here'
})
const waits = computed(() => picture.value !== 'before' && props.hasMoves && !treated.value)
</script>

<template>
  <div class="tools" @pointerdown.stop @click.stop @dblclick.stop>
    <template v-if="of === 'spectrogram'">
      <span v-if="hasMoves" role="group" aria-label="Spectrogram of"><button v-for="one in PICTURES" :key="one" class="plain" :aria-pressed="picture === one" :title="TOLD[one]" @click="picture = one">{{ one }}{{ waits && picture === one ? ' …' : '' }}</button></span>
      <button class="plain" :aria-pressed="pitchShown" title="The pitch of a track with one voice: what does not follow it is no part of the notes" @click="pitchShown = !pitchShown">{{ pitchTold }}</button>
    </template>
    <template v-else>
      <button class="plain" :aria-pressed="holding" title="Keep the highest live level of every frequency" @click="holding = !holding">hold peaks</button>
      <button class="plain" :aria-pressed="frozen" title="Let the live spectrum stand as it is" @click="frozen = !frozen">freeze</button>
      <select v-model="behindId" aria-label="Behind it" title="Another track, or the mix, behind it in slate">
        <option value="">nothing behind</option><option v-for="other in others" :key="other.id" :value="other.id">{{ other.name }} behind</option>
      </select>
      <button v-if="heldProbes.length" class="plain held" title="Let go of them (Escape)" @click="heldProbes = []">{{ heldProbes.length }} held ×</button>
    </template>
  </div>
</template>

<style scoped>
.tools { position: absolute; top: 2px; left: 3px; display: flex; flex-wrap: wrap; gap: 2px; font-size: 12px; line-height: 1.2; cursor: default; z-index: 1; }
.tools .plain, .tools select { font: inherit; padding: 1px 4px; background: var(--paper); border: 1px solid var(--line); color: var(--ink); }
.tools .plain[aria-pressed='true'] { background: var(--ink); color: var(--paper); }
.tools select { width: 104px; border-radius: 2px; }
.tools .held { color: var(--ochre); font-weight: 700; }
</style>
