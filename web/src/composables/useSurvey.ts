/** Survey: many shallow cuts drafted from a stretch, heard before any of them is written down. */
import { computed, ref, shallowRef, watch } from 'vue'
import { api, type LedgerEntry, type Strip, type SurveyCut } from '../api/client'
import { editTrack, newId } from '../lib/edits'
import { useBench } from './useBench'
import { usePlay } from './usePlay'
import { useSession } from './useSession'

const LISTENS_S = 10
const LEAST_S = 1
const { state, chosen, show } = useSession()
const play = usePlay()
const bench = useBench()

const draft = shallowRef<SurveyCut[] | null>(null)
const amount = ref(60)
/** Limits between which it cuts. */
const limits = ref({ lowHz: 150, highHz: 10_000 })
const surveying = ref(false)
const problem = ref('')
const hearing = ref<'with' | 'offcuts' | null>(null)
let before: Strip | null = null
watch(() => chosen.value?.id, () => (draft.value = null))

/** What is listened to: the loop, or ten seconds from the play position. */
const stretch = computed(() => {
  if (bench.loop.value) return bench.loop.value
  const startS = Math.min(play.positionFrame.value / play.rate.value, Math.max(bench.songS.value - LISTENS_S, 0))
  return { startS, endS: Math.min(startS + LISTENS_S, bench.songS.value) }
})
let asked = { startS: 0, endS: 0 }

async function ask(startS: number, endS: number) {
  const session = state.value
  const strip = chosen.value
  if (!session || !strip || surveying.value) return
  surveying.value = true
  problem.value = ''
  asked = { startS, endS }
  try {
    draft.value = await api.survey(session.id, strip.id, startS, endS, amount.value, limits.value.lowHz, limits.value.highHz)
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

const entries = (): LedgerEntry[] => (draft.value ?? []).map((cut) => ({
  id: newId(), move: cut.move, evidence: null, clash: null,
  reason: `Survey: stands ${cut.excess_db.toFixed(1)} dB out, ${Math.round(100 * cut.share_of_time)} % of the time, of no note played (${cut.nearest_note})`,
}))

/** Hold to hear the track with the drafted cuts, or exactly what they take away; nothing is saved. */
function hear(how: 'with' | 'offcuts' | null) {
  const strip = before ?? chosen.value
  if (!strip || how === hearing.value) return
  hearing.value = how
  if (how && !before) {
    before = strip
    show([editTrack(strip, { ledger: [...strip.ledger, ...entries()] })])
    if (!play.playing.value) void play.play()
  }
  play.offcuts.value = how === 'offcuts'
  if (!how && before) {
    show([editTrack(before, { ledger: before.ledger })])
    before = null
  }
}

async function accept() {
  hear(null)
  const added = entries()
  draft.value = null
  await bench.onTrack(`Survey: ${added.length} cuts`, (strip) => ({ ledger: [...strip.ledger, ...added] }))
}

export function useSurvey() {
  return { draft, amount, limits, setLimits, listeningFrom, listen, surveyAll, surveying, problem, hearing, survey, setAmount, hear, accept, discard: () => (draft.value = null) }
}
