/** Whether a key is meant for a field that is being filled in rather than for the screen. */
export function isTyping(event: KeyboardEvent): boolean {
  const target = event.target
  return (
    target instanceof HTMLInputElement || target instanceof HTMLSelectElement || target instanceof HTMLTextAreaElement
  )
}

type KeyWords = readonly (readonly [keys: string, does: string])[]
export type Screen = 'gather' | 'round' | 'bench' | 'ensemble' | 'proof' | 'hand-over'

export const KEYS_EVERYWHERE: KeyWords = [
  ['Space', 'play or stop'],
  ['A', 'alone, or in the mix'],
  ['U', 'pressure test'],
  ['M', 'listen through: mono, a small speaker'],
  ['R', 'hold: the reference, equally loud'],
  ['E', 'write a remark at what is heard'],
  ['Ctrl Z', 'undo; with Shift: redo'],
  ['?', 'this list'],
]
export const KEYS_OF: Record<Screen, KeyWords> = {
  gather: [],
  round: [
    ['↓ ↑', 'next row, the one before: it plays'],
    ['1 2 3', 'hold: the fault alone, the track without it, the fault lifted'],
    ['X', 'do what is proposed'],
    ['T', 'the other way: tame instead of cut, cut instead of tame'],
    ['K', 'wanted; of a clash: the other one goes first'],
    ['D', 'not a fault, as it should be'],
    ['W', 'later'],
    ['S', 'draft all that are sure'],
    [', .', 'fewer, more moves in the plan'],
    ['P', 'hear the plan, or not'],
    ['B', 'hold: the mix before all moves'],
  ],
  bench: [
    ['H', 'find suspects'],
    ['N', 'next suspect; with Shift: the one before'],
    ['1 2 3 4', 'hold: the suspect alone, gone, lifted, lifted and then gone'],
    ['X T K D', 'cut, tame, wanted, not a fault'],
    ['L', 'hold: the probe at the pointer, as the mouse held on the spectrum; with Shift it stays'],
    ['I', 'hold: the pitch pipe'],
    ['P', 'a pin at the pointer'],
    ['C', 'a cut at the pointer'],
    ['B', 'before or after the moves'],
    ['O', 'hold: the offcuts'],
    [', .', 'amount less, more'],
    ['[ ]', 'loop from here, to here'],
    ['+ − 0', 'closer, wider, show all'],
    ['Wheel', 'scroll; with Ctrl: closer or wider, with Shift: in time'],
    ['↑ ↓', 'pointer up, down'],
  ],
  ensemble: [['Shift ← →', 'at a name: earlier or later in the right of way']],
  proof: [
    ['Shift A B C D', 'go to that treatment; it is heard at once'],
    ['A X B', 'in a blind check: hear it'],
    ['1 2', 'in a blind check: answer A, answer B'],
  ],
  'hand-over': [],
}
