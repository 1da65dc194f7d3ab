/** Blind checks: what is asked, the trials, and what earlier ones showed. The page never knows which side is which. */
import { useQuery } from '@tanstack/vue-query'
import { computed, onScopeDispose, ref, shallowRef } from 'vue'
import { api, type AskedCheck, type Blind, type BlindCheck, type Compared } from '../api/client'
import { queries } from '../api/reads'
import type { Play } from './usePlay'
import type { SessionStore } from './useSession'

export type BlindChecks = ReturnType<typeof makeBlind>

export function makeBlind(session: SessionStore, play: Play) {
  const { id, treatment, chosen, edit } = session
  const asks = ref<AskedCheck['asks']>('hear')
  const what = ref<Compared['what']>('strip')
  const entryId = ref<string | null>(null)
  const nTrials = ref(10)
  const matched = ref(true)
  const running = shallowRef<BlindCheck | null>(null)
  const problem = ref('')
  const beginning = ref(false)

  const listing = useQuery(
    {
      queryKey: ['blind-checks', id],
      queryFn: ({ signal }) => api.blindChecks(id, signal),
      staleTime: 0,
      shallow: true,
    },
    queries,
  )
  const results = computed(() => listing.data.value ?? [])
  /** What was found of a move: the newest check of it. */
  const resultOf = (moveId: string) =>
    results.value.find((one) => one.asked.compared.what === 'one-move' && one.asked.compared.entry_id === moveId)

  const other = computed(() => play.against.value)
  /** What is asked, or null while something of it is not chosen. */
  const asked = computed<AskedCheck | null>(() => {
    if (what.value === 'treatments' && (!other.value || other.value === treatment.value)) return null
    if (what.value === 'one-move' && !chosen.value?.ledger.some((one) => one.id === entryId.value)) return null
    const compared = {
      what: what.value,
      other: what.value === 'treatments' ? other.value : null,
      entry_id: what.value === 'one-move' ? entryId.value : null,
      amount: 100,
      other_heard: false,
    }
    return {
      asks: asks.value,
      compared,
      treatment: treatment.value,
      strip_id: chosen.value?.id ?? null,
      alone: play.alone.value,
      pressure: play.pressure.value,
      matched: matched.value,
      n_trials: nTrials.value,
    }
  })

  async function begin() {
    if (!asked.value) return
    problem.value = ''
    beginning.value = true
    try {
      running.value = await api.beginBlindCheck(id, asked.value)
      press('A')
      await play.play()
    } catch (error) {
      problem.value = error instanceof Error ? error.message : String(error)
    } finally {
      beginning.value = false
    }
  }

  let answering = false
  let first: Blind['press'] = 'A' // of the next trial; pressed while an answer is on its way, it is meant for that
  const pressed = computed(() => play.blind.value?.press ?? null)
  function press(which: Blind['press']) {
    const check = running.value
    if (!check || check.result || (which === 'X' && check.asked.asks !== 'hear')) return
    if (answering) first = which
    else play.blind.value = { check_id: check.id, trial: check.n_answered, press: which }
  }

  async function say(which: 'A' | 'B') {
    const check = running.value
    if (!check || check.result || answering) return
    answering = true
    first = 'A'
    try {
      const next = await api.answerBlindCheck(id, check.id, check.n_answered, which)
      running.value = next
      answering = false
      if (next.result) end()
      else press(first)
    } catch (error) {
      problem.value = error instanceof Error ? error.message : String(error)
    } finally {
      answering = false
    }
  }

  function end() {
    play.stop()
    play.blind.value = null
    void listing.refetch()
  }
  /** Leave the check, or its result. */
  function leave() {
    if (running.value && !running.value.result) end()
    running.value = null
  }

  /** Give a move the least depth that was heard. */
  function takeOffered(check: BlindCheck) {
    const [move, moveId] = [check.result?.offered, check.asked.compared.entry_id]
    const strip = chosen.value
    const seen = strip?.ledger.find((one) => one.id === moveId)?.move
    if (!strip || !move || !moveId || !seen) return
    const set = { do: 'set-move', strip_id: strip.id, entry_id: moveId, move, seen } as const
    void edit('The least that is heard', [{ treatment: check.asked.treatment, ...set }])
  }

  onScopeDispose(() => (play.blind.value = null))

  return {
    asks,
    what,
    entryId,
    nTrials,
    matched,
    asked,
    running,
    problem,
    beginning,
    results,
    resultOf,
    pressed,
    begin,
    press,
    say,
    leave,
    takeOffered,
  }
}
