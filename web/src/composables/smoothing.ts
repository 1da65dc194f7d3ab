/** How smooth spectra are drawn: the browser's own choice, kept where the browser keeps such things. */
import { ref, watch } from 'vue'
import type { Asked } from '../api/analyses'

export type Smoothing = NonNullable<Asked<'spectrum'>['smoothing']>

const KEPT = 'mivlo-smoothing'
export const SMOOTHINGS: readonly { value: Smoothing; label: string }[] = [
  { value: 'none', label: 'as measured' },
  { value: '1/24', label: 'over 1/24 octave' },
  { value: '1/6', label: 'over 1/6 octave' },
  { value: '1/3', label: 'over 1/3 octave' },
  { value: 'ear', label: 'as the ear does it' },
]

const kept = SMOOTHINGS.find(({ value }) => value === localStorage.getItem(KEPT))
export const smoothing = ref<Smoothing>(kept?.value ?? 'none')
watch(smoothing, (now) => localStorage.setItem(KEPT, now))
