/** Hunting: the suspects of what is on the bench, judged one by one with the ear in charge. */
import { computed, onScopeDispose, ref, shallowRef, watch } from 'vue'
import { type Intent, type LedgerEntry, type Suspect, type Suspects } from '../api/client'
import { useRead } from '../api/reads'
import { formatHz } from '../lib/figures'
import { newId } from '../lib/moves'
import { isAnswered, probeOfSuspect, type Shown, type SuspectAudition } from '../lib/suspects'
import type { Bench } from './useBench'
import type { Edits } from './useEdits'
import type { Play } from './usePlay'
import type { SessionStore } from './useSession'

const PLAIN_MS = 2000

export type Judgement = 'cut' | 'tame' | 'wanted' | 'no-fault'

export type Hunt = ReturnType<typeof makeHunt>

export function makeHunt(session: SessionStore, play: Play, bench: Bench, edits: Edits) {
  const { about, version, chosen, sound, saveState, analyse } = session

  /** What was found last of each strip, and in which stretch: whoever comes back to a track finds its list again. */
  const found = shallowRef<ReadonlyMap<string, { key: string; result: Suspects }>>(new Map())
  const finding = ref(false)
  const problem = ref('')
  const suspectId = ref<string | null>(null)

  const stretch = computed(() => bench.loop.value ?? { startS: 0, endS: bench.songS.value })
  const stretchKey = computed(() =>
    [sound.value?.content, stretch.value.startS.toFixed(3), stretch.value.endS.toFixed(3)].join(' '),
  )
  /** What the server has heard in the background of a whole track: there without being asked for. */
  const heard = useRead(
    'suspects',
    () => {
      const strip = chosen.value
      if (strip?.kind !== 'track' || bench.loop.value) return null
      const { id, audio_id: audio, role, start_frame: start, keepers, dismissed } = strip
      return { strip: id, key: stretchKey.value, hangsOn: [audio, role, start, keepers, dismissed] }
    },
    async ({ strip, key }, signal) => ({
      key,
      result: await analyse('suspects', { strip_id: strip, start_s: 0 }, signal, true),
    }),
    () => chosen.value?.id,
  ).answer
  const here = computed(() => found.value.get(chosen.value?.id ?? '') ?? heard.value ?? undefined)
  const result = computed(() => here.value?.result ?? null)
  const stale = computed(() => here.value !== undefined && here.value.key !== stretchKey.value)
  const keep = (stripId: string, key: string, result: Suspects) =>
    (found.value = new Map(found.value).set(stripId, { key, result }))
  /** Those not yet answered by a move of the ledger. */
  const suspects = computed(
    () => result.value?.suspects.filter((one) => !isAnswered(one, chosen.value?.ledger ?? [])) ?? [],
  )
  const suspect = computed(() => suspects.value.find((one) => one.id === suspectId.value) ?? null)
  watch(
    () => chosen.value?.id,
    () => {
      suspectId.value = null
      problem.value = ''
    },
  )

  /** Look for suspects in the loop, or in the whole song. */
  async function hunt() {
    const strip = chosen.value
    if (!strip || finding.value) return
    finding.value = true
    problem.value = ''
    const key = stretchKey.value
    try {
      const { startS, endS } = stretch.value
      keep(strip.id, key, await analyse('suspects', { strip_id: strip.id, start_s: startS, end_s: endS }))
      if (chosen.value?.id === strip.id) suspectId.value = suspects.value[0]?.id ?? null
    } catch (error) {
      if (chosen.value?.id === strip.id) problem.value = error instanceof Error ? error.message : String(error)
    } finally {
      finding.value = false
    }
  }

  /** The next or the one before, round the list, strongest first. */
  function step(by: 1 | -1) {
    const list = suspects.value
    const at = list.findIndex((one) => one.id === suspectId.value)
    suspectId.value = list.at((at + by) % Math.max(list.length, 1))?.id ?? null
  }

  let turning: ReturnType<typeof setTimeout> | undefined

  /** Hold to hear a suspect alone, lifted, lifted and then gone, or the track without it; null lets go. */
  function audition(how: Shown | null, one: Suspect | null = suspect.value) {
    clearTimeout(turning)
    hear(how === 'plain-then-gone' ? 'lift' : how, one)
    if (how === 'plain-then-gone') turning = setTimeout(() => hear('dip', one), PLAIN_MS)
  }

  function hear(how: SuspectAudition | null, one: Suspect | null) {
    const strip = chosen.value
    play.probe.value =
      how && one && strip ? { ...probeOfSuspect(one, how, about.value.probe.amount_db), track_id: strip.id } : null
    if (how && !play.playing.value) void play.play()
  }

  const next = (gone: Suspect) => {
    const list = suspects.value
    const at = list.findIndex((one) => one.id === gone.id)
    suspectId.value =
      list.find((one, index) => one.id !== gone.id && index > at)?.id ??
      list.find((one) => one.id !== gone.id)?.id ??
      null
  }

  const answered =
    (one: Suspect, answer: 'cut' | 'tame' | 'wanted' | 'not-a-fault', more: object = {}) =>
    (strip: { id: string }) => [
      { do: 'answer-suspect', strip_id: strip.id, answer, hz: one.hz, q: one.q, ...more } as Intent,
    ]

  /** Answer with the proposed move; it unfolds, with what became of the suspect, and N goes on through the list. */
  function answer(one: Suspect, how: 'cut' | 'tame') {
    suspectId.value = null
    const reason = `${one.kind}: ${one.sentence}`.slice(0, 500)
    const entry: LedgerEntry = { id: newId(), move: one[how], reason, evidence: one.evidence, clash: null }
    bench.entryId.value = entry.id
    const label = `${how === 'cut' ? 'Cut' : 'Tame'} ${one.kind} at ${formatHz(one.hz)}`
    void edits.onStrip(label, answered(one, how, { entry }))
  }

  function wanted(one: Suspect) {
    next(one)
    drop(one)
    void edits.onStrip(`Keep ${formatHz(one.hz)}`, answered(one, 'wanted', { keeper: one.keeper }))
  }

  function noFault(one: Suspect) {
    next(one)
    drop(one)
    void edits.onStrip(`Not a fault: ${formatHz(one.hz)}`, answered(one, 'not-a-fault'))
  }

  /** Take one off the list at once; the server leaves it out from now on. */
  function drop(one: Suspect) {
    const [id, list] = [chosen.value?.id, here.value]
    if (id && list)
      keep(id, list.key, { ...list.result, suspects: list.result.suspects.filter((other) => other.id !== one.id) })
  }

  /** What is said to a suspect, by its button or key. */
  function judge(how: Judgement, one: Suspect | null = suspect.value) {
    if (!one) return
    if (how === 'wanted') wanted(one)
    else if (how === 'no-fault') noFault(one)
    else answer(one, how)
  }

  /** What the search is about, or has come to. */
  const summary = computed(() => {
    if (finding.value) return 'listening …'
    if (problem.value) return problem.value
    if (!result.value) return bench.loop.value ? 'in the loop' : 'in the whole song'
    const n = suspects.value.length
    return `${n || 'no'} suspect${n === 1 ? '' : 's'}${stale.value ? ', of another stretch' : ''}`
  })
  /** The stretch in which suspects were looked for. */
  const foundIn = computed(() => ({
    startS: result.value?.start_s ?? 0,
    endS: result.value?.end_s ?? bench.songS.value,
  }))

  const setLoop = (startS: number, endS: number) =>
    bench.setLoop({ startS: Math.max(startS - 0.4, 0), endS: Math.max(endS + 0.4, startS + 1) })

  /** The chosen move, if it answers a suspect (or if not); not before it is saved: the server would not know it yet. */
  const chosenMove = (answersSuspect: boolean) => () => {
    const entry = bench.entry.value
    const asked = chosen.value && entry && !!entry.evidence === answersSuspect && saveState.value === 'saved'
    return asked ? { revision: version.value, strip: chosen.value.id, entry: entry.id } : null
  }
  const ofEntry = () => bench.entryId.value
  /** What became of the suspect that the chosen move answers, measured again on the treated sound. */
  const cure = useRead(
    'cure',
    chosenMove(true),
    ({ strip, entry }, signal) => analyse('cure', { strip_id: strip, entry_id: entry }, signal),
    ofEntry,
  ).answer
  /** How much of the region of a move that answers no suspect is gone; one that does tells it with its cure. */
  const ownLoss = useRead(
    'loss',
    chosenMove(false),
    async ({ strip, entry }, signal) => ({
      loss: await analyse('loss', { strip_id: strip, entry_id: entry }, signal),
    }),
    ofEntry,
  ).answer
  const loss = computed(() => cure.value ?? ownLoss.value?.loss ?? null)
  onScopeDispose(() => clearTimeout(turning))

  return {
    suspects,
    suspectId,
    finding,
    summary,
    foundIn,
    hunt,
    step,
    audition,
    judge,
    setLoop,
    cure,
    loss,
  }
}
