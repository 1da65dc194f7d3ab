/** Treatments A to D: which one is worked on, what another one does otherwise, making, copying and keeping them. */
import { computed, ref } from 'vue'
import { api, type Intent, type Treatment } from '../api/client'
import { useRead } from '../api/reads'
import { addMove, addTreatment, inTreatment, stripOf } from '../lib/intents'
import { answered, proposed, sureRows } from '../lib/round'
import type { Play } from './usePlay'
import type { SessionStore } from './useSession'

export const LETTERS: readonly Treatment[] = ['A', 'B', 'C', 'D']
const SURE_ENOUGH = 0.2
const MOST_INTENTS = 190

export type Treatments = ReturnType<typeof makeTreatments>

export function makeTreatments(session: SessionStore, play: Play) {
  const { id, state, known, treatment, version, edit } = session
  const open = ref(false)
  const problem = ref('')

  const list = computed(() => state.value.treatments)
  const several = computed(() => list.value.length > 1)
  const free = computed(() => LETTERS.find((letter) => !list.value.some((one) => one.letter === letter)) ?? null)

  /** Go to a treatment: it is shown, worked on and heard. */
  function go(letter: Treatment) {
    if (letter === treatment.value || !list.value.some((one) => one.letter === letter)) return
    // First beside, then heard: in between, nothing that is rendered is let go.
    if (play.against.value !== letter) play.against.value = letter
    treatment.value = letter
  }

  /** The two that are side by side, and whether a switch between them is at once and equally loud, or nearly so. */
  const sides = computed(() => play.sides.value.compared && play.sides.value)
  const ready = computed(() => play.playing.value && sides.value !== null && !!play.match.value)

  const differing = useRead(
    'differences',
    () => {
      const other = play.against.value
      return open.value && other && list.value.some((one) => one.letter === other)
        ? { now: treatment.value, other, version: version.value }
        : null
    },
    ({ now, other }, signal) => api.differences(id, other, now, signal),
    () => [id, treatment.value, play.against.value],
  )

  async function make(intents: (letter: Treatment) => Intent[], label: string) {
    const letter = free.value
    if (letter && (await edit(`Treatment ${letter} ${label}`, intents(letter)))) go(letter)
  }
  const makeOf = (of: Treatment) => make((letter) => [addTreatment(letter, of)], `from ${of}`)
  const makeEmpty = () => make((letter) => [addTreatment(letter, null)], 'from nothing')

  /** A treatment of what Mivlo proposes: the cuts that are sure enough and heard, and room for who goes first. */
  async function makeProposed() {
    problem.value = ''
    const view = await api.round(id, treatment.value, session.news.pageId, true, new AbortController().signal)
    const untouched = view.rows.map((row) => ({ ...row, status: 'to judge' as const, entries: [] }))
    const cuts = sureRows(untouched, SURE_ENOUGH).flatMap((row) => answered(row, proposed(row), known.value))
    const room = (view.plan?.moves ?? []).flatMap((one) => {
      const strip = stripOf(known.value, one.strip_id)
      return strip ? [addMove(strip, one.entry)] : []
    })
    const moves = [...cuts, ...room].slice(0, MOST_INTENTS)
    if (!moves.length) {
      problem.value = view.waiting
        ? 'Nothing is proposed yet: Mivlo is still listening. Ask again in a moment.'
        : 'Nothing is proposed for this session.'
      return
    }
    const label = `of what is proposed: ${moves.length} moves`
    await make(
      (letter) => [addTreatment(letter, null, 'proposed'), ...moves.map((one) => inTreatment(one, letter))],
      label,
    )
  }

  const rename = (letter: Treatment, name: string) => {
    const seen = list.value.find((one) => one.letter === letter)?.name ?? ''
    return name === seen
      ? Promise.resolve(true)
      : edit(`Treatment ${letter}: ${name}`, [{ do: 'set-treatment', letter, name, seen }])
  }
  const copy = (of: Treatment, to: Treatment, stripIds: string[], name: string) =>
    edit(`${name} in ${to} as in ${of}`, [{ do: 'copy-ledgers', of, to, strip_ids: stripIds }])
  const keep = (letter: Treatment) => edit(`Keep treatment ${letter}`, [{ do: 'keep-treatment', letter }])
  const remove = (letter: Treatment) => edit(`Treatment ${letter} taken out`, [{ do: 'remove-treatment', letter }])

  return {
    open,
    list,
    several,
    free,
    go,
    sides,
    ready,
    differences: differing.answer,
    problem,
    makeOf,
    makeEmpty,
    makeProposed,
    rename,
    copy,
    keep,
    remove,
  }
}
