/** Survey: many shallow cuts drafted from a stretch, heard before any of them is written down. */
import { computed, ref, shallowRef, watch } from 'vue'
import { api, type LedgerEntry, type SurveyCut } from '../api/client'
import { addMove } from '../lib/intents'
import { newId } from '../lib/moves'
import type { Bench } from './useBench'
import type { Edits } from './useEdits'
import type { Play } from './usePlay'
import type { SessionStore } from './useSession'

const LISTENS_S = 10
const LEAST_S = 1

export type Survey = ReturnType<typeof makeSurvey>

export function makeSurvey(session: SessionStore, play: Play, bench: Bench, edits: Edits) {
  const { chosen, knownChosen, analyse } = session

  const draft = shallowRef<SurveyCut[] | null>(null)
  const amount = ref(60)
  /** Limits between which it cuts. */
  const limits = ref({ lowHz: 150, highHz: 10_000 })
  const surveying = ref(false)
  const problem = ref('')
  const hearing = ref<'with' | 'offcuts' | null>(null)
  /** The drafted cuts as entries of the ledger, made once: what is heard is what would be taken. */
  const entries = computed(() => (draft.value ?? []).map(entryOf))
  watch(
    () => chosen.value?.id,
    () => (draft.value = null),
  )

  /** What is listened to: the loop, or ten seconds from the play position. */
  const stretch = computed(() => {
    if (bench.loop.value) return bench.loop.value
    const startS = Math.min(play.positionFrame.value / play.rate.value, Math.max(bench.songS.value - LISTENS_S, 0))
    return { startS, endS: Math.min(startS + LISTENS_S, bench.songS.value) }
  })
  let asked = { startS: 0, endS: 0 }

  async function ask(startS: number, endS: number) {
    const strip = chosen.value
    if (!strip || surveying.value) return
    surveying.value = true
    problem.value = ''
    asked = { startS, endS }
    try {
      draft.value = await analyse('survey', {
        strip_id: strip.id,
        start_s: startS,
        end_s: endS,
        amount: amount.value,
        low_hz: limits.value.lowHz,
        high_hz: limits.value.highHz,
      })
    } catch (error) {
      problem.value = error instanceof Error ? error.message : String(error)
    } finally {
      surveying.value = false
    }
  }

  const survey = () => ask(stretch.value.startS, stretch.value.endS)

  /** When listening began, by the clock and in the song; null while it does not. */
  const listeningFrom = ref<{ at: number; startS: number } | null>(null)

  /** Play and listen until told to stop, then draft from what was heard. */
  function listen() {
    const began = listeningFrom.value
    listeningFrom.value = null
    const nowS = play.positionFrame.value / play.rate.value
    if (!began) {
      listeningFrom.value = { at: performance.now(), startS: bench.loop.value?.startS ?? nowS }
      if (!play.playing.value) void play.play()
      return
    }
    const heardS = (performance.now() - began.at) / 1000
    const endS = bench.loop.value ? bench.loop.value.endS : Math.max(nowS, began.startS + LEAST_S)
    void ask(began.startS, Math.min(endS, began.startS + Math.max(heardS, LEAST_S), bench.songS.value))
  }

  /** The whole song, however long. */
  const surveyAll = () => ask(0, bench.songS.value)

  function setLimits(lowHz: number, highHz: number) {
    limits.value = { lowHz, highHz }
    return draft.value ? ask(asked.startS, asked.endS) : Promise.resolve()
  }

  /** Another amount for all cuts: drafted anew from the same stretch. */
  function setAmount(value: number) {
    amount.value = value
    return ask(asked.startS, asked.endS)
  }

  /** Hold to hear the track with the drafted cuts, or exactly what they take away; nothing is saved. */
  async function hear(how: 'with' | 'offcuts' | null) {
    if (how === hearing.value) return
    hearing.value = how
    play.offcuts.value = how === 'offcuts'
    const strip = knownChosen()
    if (!how || !strip) {
      play.draftId.value = null
      return
    }
    const id = newId()
    try {
      await api.keepDraft(session.id, { id, intents: entries.value.map((entry) => addMove(strip, entry)) })
    } catch (error) {
      problem.value = error instanceof Error ? error.message : String(error)
      return
    }
    if (hearing.value !== how) return // let go of meanwhile
    play.draftId.value = id
    if (!play.playing.value) void play.play()
  }

  async function accept() {
    void hear(null)
    const added = entries.value
    draft.value = null
    await edits.onStrip(`Survey: ${added.length} cuts`, (strip) => added.map((entry) => addMove(strip, entry)))
  }

  return {
    draft,
    amount,
    limits,
    setLimits,
    listeningFrom,
    listen,
    surveyAll,
    surveying,
    problem,
    hearing,
    survey,
    setAmount,
    hear,
    accept,
    discard: () => (draft.value = null),
  }
}

const entryOf = (cut: SurveyCut): LedgerEntry => {
  const often = `${Math.round(100 * cut.share_of_time)} % of the time`
  const reason = `Survey: stands ${cut.excess_db.toFixed(1)} dB out, ${often}, of no note played (${cut.nearest_note})`
  return { id: newId(), move: cut.move, evidence: null, clash: null, reason }
}
