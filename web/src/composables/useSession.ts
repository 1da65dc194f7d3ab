/** The open session: its state, and edits that are shown at once and saved one after the other. */
import { computed, ref, shallowRef } from 'vue'
import { api, ApiError, type About, type EditStep, type SessionState, type Strip } from '../api/client'
import { applySteps, stripOfGroup, type SaveState } from '../lib/edits'
import { useLatest } from './useLatest'

const RETRY_MS = 1000

const about = shallowRef<About | null>(null)
const state = shallowRef<SessionState | null>(null)
const saveState = ref<SaveState>('saved')
const trouble = ref('')
const chosenId = ref<string | null>(null)
let known = 0
let pending: Promise<unknown> = Promise.resolve()
let waiting = 0
let news: WebSocket | null = null

const group = computed(() => (state.value ? [...state.value.groups, state.value.master].find((one) => one.id === chosenId.value) : null) ?? null)

/** What goes into the group on the bench, rendered anew when what it hangs on was saved. */
const bounce = useLatest(
  () => group.value && state.value && { id: state.value.id, groupId: group.value.id, revision: state.value.revision },
  ({ id, groupId }) => api.bounce(id, groupId),
  () => group.value?.id,
)

/** What is on the bench: a track, a group or the mix. */
const chosen = computed<Strip | null>(() => {
  if (group.value) return stripOfGroup(group.value, bounce.value)
  return state.value?.tracks.find((track) => track.id === chosenId.value) ?? state.value?.tracks[0] ?? null
})

async function open(id: string) {
  about.value ??= await api.about()
  if (state.value?.id === id) return
  state.value = null
  take(await api.session(id))
  listen(id)
}

function take(next: SessionState) {
  known = next.revision
  state.value = next
}

/** Reload when another page has changed the session; nothing is lost, since every change is saved as it is made. */
function listen(id: string) {
  news?.close()
  const socket = new WebSocket(`ws://${location.host}/api/sessions/${id}/news`)
  news = socket
  socket.onmessage = (event: MessageEvent<string>) => {
    const { revision } = JSON.parse(event.data) as { revision: number }
    if (waiting === 0 && revision > known) void reload()
  }
  socket.onclose = () => {
    if (news === socket) setTimeout(() => news === socket && listen(id), 1000)
  }
  socket.onopen = () => {
    if (waiting === 0) void reload()
  }
}

async function reload() {
  if (!state.value) return
  const next = await api.session(state.value.id).catch(() => null)
  // An answer may come late: what was saved since must not be taken for another page's older state.
  if (next && waiting === 0 && next.revision > known) take(next)
}

/** Show edit steps at once without saving, for instance while something is dragged. */
function show(steps: EditStep[]) {
  if (state.value) state.value = applySteps(state.value, steps)
}

/** Make one undoable change: shown at once, saved in turn. */
function edit(label: string, steps: EditStep[]) {
  show(steps)
  return save((id) => api.edit(id, known, label, steps))
}

function save(request: (id: string) => Promise<SessionState>) {
  const id = state.value?.id
  if (!id) return Promise.resolve()
  waiting += 1
  if (saveState.value !== 'waiting') saveState.value = 'saving'
  pending = pending.then(() => saveInTurn(id, request))
  return pending
}

async function saveInTurn(id: string, request: (id: string) => Promise<SessionState>) {
  try {
    const next = await insist(() => request(id))
    known = next.revision
    waiting -= 1
    trouble.value = ''
    // Later edits that still wait are already shown; only the last answer replaces what is on the page.
    if (waiting === 0) {
      take(next)
      saveState.value = 'saved'
    }
  } catch (error) {
    waiting -= 1
    saveState.value = 'failed'
    trouble.value = error instanceof Error ? error.message : String(error)
    const fresh = await api.session(id).catch(() => null)
    if (fresh) take(fresh)
  }
}

/** Ask again until the server is there: an edit made while it restarts is late, not lost. */
async function insist(request: () => Promise<SessionState>): Promise<SessionState> {
  for (let asked = 1; ; asked++) {
    try {
      return await request()
    } catch (error) {
      const code = error instanceof ApiError ? error.code : null
      const id = state.value?.id
      // The answer to an earlier try may have been lost on its way: then the edit is in, and "stale" says so.
      if (code === 'stale-state' && asked > 1 && id) return await api.session(id)
      if (code !== 'no-connection' && code !== 'no-database') throw error
      saveState.value = 'waiting'
      await new Promise((resolve) => setTimeout(resolve, RETRY_MS))
    }
  }
}

const undo = () => save((id) => api.undo(id, known))
const redo = () => save((id) => api.redo(id, known))

export function useSession() {
  return { about, state, saveState, trouble, chosenId, chosen, open, take, show, edit, undo, redo }
}
