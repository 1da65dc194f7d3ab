/**
 * The store of an open session: what the server has confirmed (`saved`), edits on their way (`pending`), and what is
 * only shown (`overlay`: a drag). What is shown is derived from the three; edits are decided on saved and pending,
 * never on an overlay.
 */
import { computed, onScopeDispose, ref, shallowRef, watch } from 'vue'
import {
  api,
  ApiError,
  type About,
  type Edited,
  type Intent,
  type SessionState,
  type Strip,
  type Treatment,
} from '../api/client'
import { makeAnalyses } from '../api/analyses'
import { makeNews, type ListenedTo } from '../api/news'
import { asTreated, bodyOf, inTreatment, overlaid, stripOf, type PendingEdit, type SaveState } from '../lib/intents'
import { newId } from '../lib/moves'
import { tracksInto } from '../lib/routing'

const RETRY_MS = 1000

/** The sound of what is on the bench: of a track its file, of a group what goes into it. */
export interface Sound {
  readonly stripId: string
  /** Changes whenever the sound may be another. */
  readonly content: string
  readonly startFrame: number
  readonly nFrames: number
  readonly nChannels: number
}

const TREATMENT = 'mivlo-treatment'
/** The treatment that this page worked on before it was loaded anew, where it is still there. */
function treatmentBefore({ id, treatments }: SessionState): Treatment {
  const before = sessionStorage.getItem(`${TREATMENT} ${id}`)
  return treatments.find((one) => one.letter === before)?.letter ?? 'A'
}

export type SessionStore = ReturnType<typeof makeSession>

export function makeSession(about: About, opened: SessionState) {
  const id = opened.id
  const news = makeNews(id)
  /** The treatment that this page works on. */
  const treatment = ref<Treatment>(treatmentBefore(opened))
  watch(treatment, (now) => sessionStorage.setItem(`${TREATMENT} ${id}`, now))
  const { analyse, pictureUrl, smallPictureUrl, sidePictureUrl } = makeAnalyses(id, news, () => treatment.value)
  /** How much of what the session needs has been listened to. */
  const listenedTo = shallowRef<ListenedTo | null>(null)
  const saved = shallowRef(opened)
  const pending = shallowRef<readonly PendingEdit[]>([])
  const overlay = shallowRef<Intent | null>(null)
  const saveState = ref<SaveState>('saved')
  const trouble = ref('')
  const chosenId = ref<string | null>(null)
  let turns: Promise<unknown> = Promise.resolve()
  let underWay = 0
  /** Steps back or forward that are on their way, and what ends with the last of them. */
  let stepping: Promise<unknown> | null = null
  /** The newest revision that was heard of, seen or not. */
  let newestRevision = opened.revision
  let left = false

  /** What edits are decided on. */
  const known = computed(() =>
    overlaid(
      asTreated(saved.value, treatment.value),
      pending.value.flatMap((edit) => edit.intents),
    ),
  )
  /** What answers of the server are about: they are asked for anew when this changes. */
  const version = computed(() => `${treatment.value}${saved.value.revision}`)
  watch(saved, ({ treatments }) => {
    if (!treatments.some((one) => one.letter === treatment.value)) treatment.value = 'A'
  })
  /** What is shown. */
  const state = computed(() => (overlay.value ? overlaid(known.value, [overlay.value]) : known.value))
  /** What is on the bench: a track, a group or the mix. */
  const chosen = computed<Strip | null>(() => stripOf(state.value, chosenId.value) ?? state.value.tracks[0] ?? null)
  /** The same as edits are decided on. */
  const knownChosen = () => stripOf(known.value, chosen.value?.id ?? null)

  const sound = computed<Sound | null>(() => {
    const strip = chosen.value
    if (!strip) return null
    if (strip.kind === 'track') {
      const file = state.value.audio[strip.audio_id]
      const lengths = { nFrames: file?.n_frames ?? 1, nChannels: file?.n_channels ?? 2 }
      return { stripId: strip.id, content: strip.audio_id, startFrame: strip.start_frame, ...lengths }
    }
    const ends = tracksInto(state.value, strip.id).map((track) => track.start_frame + lengthOf(track.audio_id))
    const nFrames = Math.max(...ends, 1)
    return { stripId: strip.id, content: version.value, startFrame: 0, nFrames, nChannels: 2 }
  })

  const lengthOf = (audioId: string) => saved.value.audio[audioId]?.n_frames ?? 1

  /** Take over what the server says, unless something newer is known. */
  function take(next: SessionState) {
    newestRevision = Math.max(newestRevision, next.revision)
    if (next.revision >= saved.value.revision) saved.value = next
  }

  /** Read anew when anybody else has changed the session. */
  const stopHearing = news.on((one) => {
    if (one.about === 'missed') {
      if (underWay === 0) void reload()
      void api.listening(id).then(
        (now) => (listenedTo.value = now),
        () => undefined, // the news tell it, too
      )
    } else if (one.about === 'listening') listenedTo.value = one
    else if (one.about === 'revision' && one.revision > newestRevision) {
      newestRevision = one.revision
      if (underWay === 0) void reload()
    }
  })
  watch(
    () => chosen.value?.id ?? null,
    (stripId) => news.lookAt(stripId),
    { immediate: true },
  )

  async function reload() {
    try {
      take(await api.session(id))
    } catch (error) {
      // Whatever else it is, it is asked again when the server is back.
      if (!(error instanceof ApiError) || error.code !== 'not-found') return
      saveState.value = 'failed'
      trouble.value = 'This session was deleted from another page.'
    }
  }

  /**
   * Make one undoable change; it is shown once it is saved, and what was set by hand stays as it was set until then.
   */
  function edit(label: string, intents: readonly (Intent | null)[]): Promise<boolean> {
    const wanted = intents.filter((one) => one !== null).map((one) => inTreatment(one, treatment.value))
    if (!wanted.length) return Promise.resolve(true)
    const made: PendingEdit = { id: newId(), label, intents: wanted }
    pending.value = [...pending.value, made]
    overlay.value = null
    return inTurn(
      () => api.edit(id, bodyOf(made)),
      () => (pending.value = pending.value.filter((one) => one !== made)),
    )
  }

  /** Keep intents that are to be heard and not taken; returns under which id. */
  async function keepDraft(intents: readonly Intent[]): Promise<string> {
    const draft = { id: newId(), intents: intents.map((one) => inTreatment(one, treatment.value)) }
    await api.keepDraft(id, draft)
    return draft.id
  }

  function stepBack(way: 'undo' | 'redo'): Promise<boolean> {
    const seen = way === 'undo' && pending.value.length ? pending.value.at(-1)?.id : undefined
    const stepId = newId()
    let of = underWay ? seen : saved.value[way]?.edit_id
    const turn = inTurn(async () => {
      of ??= saved.value[way]?.edit_id
      if (of === undefined) return null
      return api[way](id, { id: stepId, author: 'engineer', of })
    })
    stepping = turn
    return turn.finally(() => {
      if (stepping === turn) stepping = null
    })
  }

  /** Wait for steps back or forward that are on their way: nobody knows yet what they leave to be edited. */
  async function stepped(): Promise<void> {
    while (stepping) await stepping
  }

  /** One request after the other, each insisted on; `done` is called together with taking its answer over. */
  function inTurn(request: () => Promise<Edited | null>, done: () => void = () => undefined): Promise<boolean> {
    underWay += 1
    if (saveState.value !== 'waiting') saveState.value = 'saving'
    const turn = turns.then(() => answered(request, done))
    turns = turn
    return turn
  }

  async function answered(request: () => Promise<Edited | null>, done: () => void): Promise<boolean> {
    try {
      const answer = await insist(request)
      if (answer) take(answer.session)
      trouble.value = ''
      return true
    } catch (error) {
      saveState.value = 'failed'
      trouble.value = error instanceof Error ? error.message : String(error)
      await reload()
      return false
    } finally {
      done()
      underWay -= 1
      if (underWay === 0) {
        if (saveState.value !== 'failed') saveState.value = 'saved'
        if (newestRevision > saved.value.revision) void reload()
      }
    }
  }

  /** Ask again until the server is there: under its own id an edit is made once, however often it is sent. */
  async function insist(request: () => Promise<Edited | null>): Promise<Edited | null> {
    for (;;) {
      try {
        const answer = await request()
        if (saveState.value === 'waiting') saveState.value = 'saving'
        return answer
      } catch (error) {
        const code = error instanceof ApiError ? error.code : null
        if ((code !== 'no-connection' && code !== 'no-database') || left) throw error
        saveState.value = 'waiting'
        await new Promise((resolve) => setTimeout(resolve, RETRY_MS))
      }
    }
  }

  onScopeDispose(() => {
    left = true
    stopHearing()
    news.close()
  })

  return {
    about: shallowRef(about),
    id,
    treatment,
    saved,
    version,
    pending,
    overlay,
    known,
    knownChosen,
    state,
    saveState,
    trouble,
    chosenId,
    chosen,
    sound,
    lengthOf,
    news,
    analyse,
    pictureUrl,
    smallPictureUrl,
    sidePictureUrl,
    listenedTo,
    take,
    reload,
    keepDraft,
    edit,
    stepped,
    undo: () => stepBack('undo'),
    redo: () => stepBack('redo'),
  }
}
