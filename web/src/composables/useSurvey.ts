/** Survey: many shallow cuts drafted from a stretch, heard before any of them is written down. */
import { computed, ref, shallowRef, watch } from 'vue'
import { api, type LedgerEntry, type Strip, type SurveyCut } from '../api/client'
import { editTrack, newId } from '../lib/edits'
import { useBench } from './useBench'
import { usePlay } from './usePlay'
import { useSession } from './useSession'

const LISTENS_S = 10
const { state, chosen, show } = useSession()
const play = usePlay()
const bench = useBench()

const draft = shallowRef<SurveyCut[] | null>(null)
const amount = ref(60)
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
    draft.value = await api.survey(session.id, strip.id, startS, endS, amount.value)
  } catch (error) {
    problem.value = error instanceof Error ? error.message : String(error)
  } finally {
    surveying.value = false
  }
}

const survey = () => ask(stretch.value.startS, stretch.value.endS)

/** Another amount for all cuts: drafted anew from the same stretch. */
function setAmount(value: number) {
  amount.value = value
  return ask(asked.startS, asked.endS)
}

const entries = (): LedgerEntry[] => (draft.value ?? []).map((cut) => ({
  id: newId(), move: cut.move, evidence: null,
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
  return { draft, amount, surveying, problem, hearing, survey, setAmount, hear, accept, discard: () => (draft.value = null) }
}
