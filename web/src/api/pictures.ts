/** Small pictures under way, so that one sees how many are still to come. */
import { computed, ref } from 'vue'
import { loadPicture } from './client'

const PATIENCE_MS = 300
const toCome = ref(0)

/** Until the page has nothing else to do: what is looked at first has been asked for, and drawn, by then. */
const idle = () => new Promise<void>((done) => requestIdleCallback(() => done(), { timeout: PATIENCE_MS }))

/** Load a picture when nothing more urgent is to be loaded; returns its address. */
async function loadSmall(address: () => Promise<string>, signal: AbortSignal): Promise<string> {
  toCome.value += 1
  try {
    await idle()
    signal.throwIfAborted()
    return (await loadPicture(address, 'soon', signal)).src
  } finally {
    toCome.value -= 1
  }
}

export function usePictures() {
  return { loadSmall, toCome: computed(() => toCome.value) }
}
