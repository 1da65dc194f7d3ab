/** One line for each control that does more than it shows; told once, when it is first reached. */
export const HINTS = {
  tracks: 'The track that is chosen here is on the bench. A treatment file dropped on one becomes its moves.',
  spectrum:
    'Hold the mouse here to lift what is under it, and sweep until the fault jumps out; P ' +
    'pins it, C cuts it. With Shift it stays lifted.',
  spectrogram:
    'A click loops around a spot and pins it, with Shift it plays from there. The wheel ' +
    'scrolls, with Ctrl it zooms, with Shift in time.',
  ruler: 'Click a note to see it with all its overtones; hold I to hear the note at the pointer.',
  waveform: 'Drag over a passage to loop it, then give it a name; [ and ] put the edges where play is.',
  margin:
    'Arrow keys at a figure change it a little, with Shift a little less; a move that is chosen shows what it did.',
  probe:
    'lift: make it plain; dip: take it away, and hear what is missed; only: just that slice. ' +
    'Hold on the spectrum, or L.',
  amount: 'All moves nearer to nothing, or further: back until it is too little, forward until it is too much.',
  offcuts: 'Held, it lets you hear exactly what the moves take away: only what should be gone may be in it.',
  round:
    'The chosen row plays at once. X does what is proposed, K keeps it, D says it is no ' +
    'fault, W leaves it for later.',
  columns:
    'Drag a name to the left, and it goes before the others; a pale place is hidden, and by whom, the pointer tells.',
  sides: 'Press on a picture, and that side plays from there; with Shift, only the half octave under the pointer.',
  treatment: 'Another way of treating the same session: each has its own moves; faders and tracks are shared.',
} as const

export type HintName = keyof typeof HINTS

const TOLD = 'mivlo-hints-told'
const told = new Set((localStorage.getItem(TOLD) ?? '').split(' '))

const isHint = (name: string | undefined): name is HintName => name !== undefined && name in HINTS

/** What is to be told of the control that was reached, if it was not told before. */
export function hintAt(target: EventTarget | null): string | null {
  const name = target instanceof Element ? target.closest<HTMLElement>('[data-hint]')?.dataset['hint'] : undefined
  if (!isHint(name) || told.has(name)) return null
  told.add(name)
  localStorage.setItem(TOLD, [...told].join(' '))
  return HINTS[name]
}

/** Let everything be told once more. */
export function forgetHints() {
  told.clear()
  localStorage.removeItem(TOLD)
}
