/** The keys of the bench, for as long as it is shown. */
import { onBeforeUnmount, onMounted } from 'vue'
import { isTyping } from '../lib/keys'
import { useBench, useEdits, useHunt, usePlay } from './work'

const MIN_LOOP_S = 0.2
const AMOUNT_STEP = 5 // per cent

export function useBenchKeys() {
  const play = usePlay()
  const bench = useBench()
  const edits = useEdits()
  const hunting = useHunt()
  const position = () => play.positionFrame.value / play.rate.value

  const KEYS: Record<string, () => void> = {
    p: () => edits.dropPin(),
    i: () => bench.pipe(true),
    h: () => void hunting.hunt(),
    n: () => hunting.step(1),
    N: () => hunting.step(-1),
    1: () => hunting.audition('only'),
    2: () => hunting.audition('dip'),
    3: () => hunting.audition('lift'),
    4: () => hunting.audition('plain-then-gone'),
    x: () => hunting.judge('cut'),
    t: () => hunting.judge('tame'),
    k: () => hunting.judge('wanted'),
    d: () => hunting.judge('no-fault'),
    c: () => bench.shownHz.value !== null && edits.addBell(bench.shownHz.value),
    b: () => (play.ledgerHeard.value = !play.ledgerHeard.value),
    o: () => (play.offcuts.value = true),
    ',': () => void edits.setAmount((edits.amount.value ?? 100) - AMOUNT_STEP),
    '.': () => void edits.setAmount((edits.amount.value ?? 100) + AMOUNT_STEP),
    l: () => bench.setProbe(bench.pointerHz.value ?? 440),
    '[': () =>
      bench.setLoop({
        startS: position(),
        endS: Math.max(bench.loop.value?.endS ?? bench.songS.value, position() + MIN_LOOP_S),
      }),
    ']': () =>
      bench.setLoop({
        startS: Math.min(bench.loop.value?.startS ?? 0, Math.max(position() - MIN_LOOP_S, 0)),
        endS: position(),
      }),
    '+': () => bench.zoom(1 / 1.5),
    '-': () => bench.zoom(1.5),
    '0': bench.showAll,
    Escape: () => {
      bench.entryId.value = null
      play.heldProbes.value = []
    },
  }

  function keyDown(event: KeyboardEvent) {
    if (isTyping(event) || event.ctrlKey || event.metaKey || event.altKey) return
    const inMargin = event.target instanceof Element && event.target.closest('.margin')
    if ((event.key === 'ArrowUp' || event.key === 'ArrowDown') && !inMargin) {
      event.preventDefault()
      bench.nudgePointer(event.key === 'ArrowUp' ? 1 : -1, event.shiftKey)
    } else if (!event.repeat) KEYS[event.key]?.()
  }

  function keyUp(event: KeyboardEvent) {
    if (event.key === 'o') play.offcuts.value = false
    if (event.key === 'l') bench.setProbe(null)
    if (['1', '2', '3', '4'].includes(event.key)) hunting.audition(null)
    if (event.key === 'i') bench.pipe(false)
  }

  function letGo() {
    bench.pipe(false)
    play.offcuts.value = false
    play.sliceEntryId.value = null
    hunting.audition(null)
  }

  onMounted(() => {
    window.addEventListener('keydown', keyDown)
    window.addEventListener('keyup', keyUp)
    window.addEventListener('blur', letGo)
  })
  onBeforeUnmount(() => {
    window.removeEventListener('keydown', keyDown)
    window.removeEventListener('keyup', keyUp)
    window.removeEventListener('blur', letGo)
    letGo()
  })
}
