/** Small pictures under way, so that one sees how many are still to come. */
import { computed, ref } from 'vue'
import { loadPicture } from './client'

const toCome = ref(0)

/** Load a picture when nothing more urgent is to be loaded; returns its address. */
async function loadSmall(address: () => Promise<string>, signal: AbortSignal): Promise<string> {
  toCome.value += 1
  try {
    return (await loadPicture(address, 'soon', signal)).src
  } finally {
    toCome.value -= 1
  }
}

export function usePictures() {
  return { loadSmall, toCome: computed(() => toCome.value) }
}
