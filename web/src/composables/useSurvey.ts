/** Survey: many shallow cuts drafted from a stretch, each seen and heard before any of them is written down. */
import { computed, ref, shallowRef, watch } from 'vue'
import { type LedgerEntry, type Move, type SurveyCut, type SurveyView } from '../api/client'
import { questionOf } from '../api/analyses'
import { formatHz } from '../lib/figures'
import { addKeeper, addMove } from '../lib/intents'
import { qToOctaves } from '../lib/figures'
import { newId } from '../lib/moves'
import type { Bench } from './useBench'
import type { Edits } from './useEdits'
import { makeListening, type Stretch } from './useListening'
import type { Play } from './usePlay'
import type { SessionStore } from './useSession'

/** A drafted cut; `on`: it is among those that are heard and taken. */
export interface Draft {
  readonly id: string
  readonly cut: SurveyCut
  readonly on: boolean
}

type Hearing = 'with' | 'offcuts' | 'only-it' | 'without-it'
export type Survey = ReturnType<typeof makeSurvey>

export function makeSurvey(session: SessionStore, play: Play, bench: Bench, edits: Edits) {
  const { chosen, knownChosen, analyse } = session
  const listening = makeListening(play, bench)

  const found = shallowRef<SurveyView | null>(null)
  const off = ref<ReadonlySet<string>>(new Set())
  /** The draft that is open in the margin. */
  const draftId = ref<string | null>(null)
  const amount = ref(60)
  /** Limits between which it cuts, and how many there may be. */
  const limits = ref({ lowHz: 150, highHz: 10_000, most: 24 })
  const surveying = ref(false)
  const problem = ref('')
  const hearing = ref<Hearing | null>(null)
  const idOf = (cut: SurveyCut) => `draft ${cut.move.hz}`
  const drafts = computed<Draft[] | null>(
    () => found.value?.cuts.map((cut) => ({ id: idOf(cut), cut, on: !off.value.has(idOf(cut)) })) ?? null,
  )
  const taken = computed(() => (drafts.value ?? []).filter((draft) => draft.on))

  function leave() {
    void hear(null)
    found.value = null
    off.value = new Set()
    draftId.value = null
  }
  watch(() => chosen.value?.id, leave)

  let asked: Stretch = { startS: 0, endS: 0 }

  async function ask(stretch: Stretch) {
    const strip = chosen.value
    if (!strip || surveying.value) return
    surveying.value = true
    problem.value = ''
    asked = stretch
    try {
      const answer = await analyse(
        'survey',
        questionOf('survey', {
          strip_id: strip.id,
          start_s: stretch.startS,
          end_s: stretch.endS,
          amount: amount.value,
          low_hz: limits.value.lowHz,
          high_hz: limits.value.highHz,
          most: limits.value.most,
        }),
      )
      if (chosen.value?.id === strip.id) found.value = answer
    } catch (error) {
      problem.value = error instanceof Error ? error.message : String(error)
    } finally {
      surveying.value = false
    }
  }

  const survey = () => ask(listening.here())
  const surveyAll = () => ask(listening.whole())

  /** Play and listen until told to stop, then draft from what was heard. */
  function listen() {
    const heard = listening.turn()
    if (heard) void ask(heard)
  }

  function setLimits(changed: Partial<typeof limits.value>) {
    limits.value = { ...limits.value, ...changed }
    return drafts.value ? ask(asked) : Promise.resolve()
  }

  /** Another amount for all cuts: drafted anew from the same stretch. */
  function setAmount(value: number) {
    amount.value = value
    return ask(asked)
  }

  function toggle(id: string) {
    const next = new Set(off.value)
    if (!next.delete(id)) next.add(id)
    off.value = next
  }

  /** A drafted place is wanted: nothing is drafted there, now and later. */
  async function keep({ cut }: Draft) {
    const half = 2 ** (qToOctaves(cut.move.q ?? 1) / 2)
    const region = { low_hz: cut.move.hz / half, high_hz: cut.move.hz * half }
    if (await edits.onStrip(`Keep ${formatHz(cut.move.hz)}`, (strip) => [addKeeper(strip, region)])) await ask(asked)
  }

  const heardOf = (how: Hearing, one: Draft | null) => {
    if (how === 'only-it') return one ? [one] : []
    return how === 'without-it' ? taken.value.filter((draft) => draft.id !== one?.id) : taken.value
  }

  /** Hold to hear the track with drafted cuts, or exactly what they take away; nothing is saved. */
  async function hear(how: Hearing | null, one: Draft | null = null) {
    if (how === hearing.value) return
    hearing.value = how
    play.offcuts.value = how === 'offcuts'
    const strip = knownChosen()
    if (!how || !strip) {
      play.draftId.value = null
      return
    }
    let id: string
    try {
      const entries = heardOf(how, one).map(({ cut }) => entryOf(cut))
      id = await session.keepDraft(entries.map((entry) => addMove(strip, entry)))
    } catch (error) {
      problem.value = error instanceof Error ? error.message : String(error)
      return
    }
    if (hearing.value !== how) return // let go of meanwhile
    play.draftId.value = id
    if (!play.playing.value) void play.play()
  }

  async function accept() {
    const added = taken.value.map(({ cut }) => entryOf(cut))
    leave()
    await edits.onStrip(`Survey: ${added.length} cuts`, (strip) => added.map((entry) => addMove(strip, entry)))
  }

  /** The same as one move that acts only when needed. */
  async function acceptAsPlane() {
    const plane = found.value?.plane
    leave()
    if (plane) await edits.addMove(plane as Move, 'Survey: what its places add, only while something stands there')
  }

  return {
    drafts,
    taken,
    draftId,
    toggle,
    keep,
    amount,
    limits,
    setLimits,
    listens: listening.listens,
    listen,
    surveyAll,
    surveying,
    problem,
    hearing,
    survey,
    setAmount,
    hear,
    accept,
    acceptAsPlane,
    discard: leave,
  }
}

const entryOf = (cut: SurveyCut): LedgerEntry => ({
  id: newId(),
  move: cut.move,
  evidence: null,
  clash: null,
  reason: `Survey: ${cut.reason} (${cut.nearest_note})`,
})
