/**
 * The one handle into the running page, for browser tests and measurements: `window.mivlo` is the work on the session
 * that is open (composables/work.ts), undefined where none is. Nothing of the application reads it.
 */
import type { Work } from './composables/work'

declare global {
  interface Window {
    mivlo?: Work
  }
}

export const showInDebugHandle = (work: Work | undefined) => {
  if (work) window.mivlo = work
  else delete window.mivlo
}
