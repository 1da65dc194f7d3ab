/** How smooth spectra are drawn: the browser's own choice, kept where the browser keeps such things. */
import { ref, watch } from 'vue'
import type { Asked } from '../api/analyses'

export type Smoothing = NonNullable<Asked<'spectrum'>['smoothing']>

const KEPT = 'mivlo-smoothing'
export const SMOOTHINGS: readonly { value: Smoothing; says: string }[] = [
  { value: 'none', says: 'as measured' },
  { value: '1/24', says: 'over 1/24 octave' },
  { value: '1/6', says: 'over 1/6 octave' },
  { value: '1/3', says: 'over 1/3 octave' },
  { value: 'ear', says: 'as the ear does it' },
]

const kept = SMOOTHINGS.find(({ value }) => value === localStorage.getItem(KEPT))
export const smoothing = ref<Smoothing>(kept?.value ?? 'none')
watch(smoothing, (now) => localStorage.setItem(KEPT, now))
