/** Small pictures under way, so that one sees how many are still to come. */
import { computed, reactive } from 'vue'
import { loadPicture } from './client'

const waiting = reactive(new Map<string, number>())

/** Load a picture when nothing more urgent is to be loaded; several may wait for the same one. */
async function loadSmall(url: string): Promise<void> {
  waiting.set(url, (waiting.get(url) ?? 0) + 1)
  try {
    await loadPicture(url, 'soon')
  } finally {
    const left = (waiting.get(url) ?? 1) - 1
    if (left > 0) waiting.set(url, left)
    else waiting.delete(url)
  }
}

export function usePictures() {
  return { loadSmall, toCome: computed(() => waiting.size) }
}
