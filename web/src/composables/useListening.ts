/** What is listened to when Mivlo is to learn or to draft: some seconds, the loop, the song, or until it is told. */
import { computed, ref } from 'vue'
import type { Bench } from './useBench'
import type { Play } from './usePlay'

const LISTENS_S = 10
const LEAST_S = 1

export interface Stretch {
  readonly startS: number
  readonly endS: number
}

export type Listening = ReturnType<typeof makeListening>

export function makeListening(play: Play, bench: Bench) {
  const nowS = () => play.positionFrame.value / play.rate.value

  /** Ten seconds from the play position, or the last ten. */
  const tenSeconds = (): Stretch => {
    const startS = Math.min(nowS(), Math.max(bench.songS.value - LISTENS_S, 0))
    return { startS, endS: Math.min(startS + LISTENS_S, bench.songS.value) }
  }

  /** The loop, or ten seconds. */
  const here = (): Stretch => bench.loop.value ?? tenSeconds()

  const whole = (): Stretch => ({ startS: 0, endS: bench.songS.value })

  /** When listening began, by the clock and in the song; null while it does not. */
  const from = ref<{ at: number; startS: number } | null>(null)

  /** Play and listen; when it does so already, stop listening (play goes on), and return what was heard. */
  function turn(): Stretch | null {
    const began = from.value
    from.value = null
    if (!began) {
      from.value = { at: performance.now(), startS: bench.loop.value?.startS ?? nowS() }
      if (!play.playing.value) void play.play()
      return null
    }
    const heardS = Math.max((performance.now() - began.at) / 1000, LEAST_S)
    const endS = bench.loop.value ? bench.loop.value.endS : Math.max(nowS(), began.startS + LEAST_S)
    return { startS: began.startS, endS: Math.min(endS, began.startS + heardS, bench.songS.value) }
  }

  const listens = computed(() => from.value !== null)
  return { tenSeconds, here, whole, turn, listens }
}
