/** The pressure test: everything heard through what stands for what is done later, and what comes back under it. */
import { computed, onScopeDispose, ref, shallowRef, watch } from 'vue'
import type { Shown } from '../api/analyses'
import type { SessionState, Strip } from '../api/client'
import { useRead } from '../api/reads'
import { formatHz } from '../lib/figures'
import { draftStandIns, removeStandIns, setMove, stripOf } from '../lib/intents'
import { newId } from '../lib/moves'
import type { Play } from './usePlay'
import type { SessionStore } from './useSession'

const stripsOf = (state: SessionState): Strip[] => [...state.tracks, ...state.groups, state.master]

type Answer = NonNullable<Shown<'pressure'>>
export type PressureRow = Answer['rows'][number] & { readonly stripId: string; readonly name: string }
export type HeardAs = 'with' | 'without' | 'pressed'

export const EARS = ['nothing', 'mono', 'small-speaker', 'curve'] as const
export type Ears = (typeof EARS)[number]
const MOST_POINTS = 400
const NO_CURVE = 'no curve in it; each line must have a frequency in Hz and a level in dB'

export type Pressure = ReturnType<typeof makePressure>

export function makePressure(session: SessionStore, play: Play) {
  const { state, known, version, chosenId, edit, analyse } = session
  const open = ref(false)
  const results = shallowRef<ReadonlyMap<string, Answer>>(new Map())
  const waiting = ref(0)
  const problem = ref('')

  const standsIn = computed(() =>
    stripsOf(state.value).some(
      (strip) => strip.ledger.some((entry) => entry.move.stand_in) || (strip.kind === 'track' && strip.later),
    ),
  )

  let asking: AbortController | null = null
  /** Ask of every track that has stand-ins; what is known already is answered at once. */
  function ask() {
    asking?.abort()
    const now = (asking = new AbortController())
    const rooms = new Set(state.value.groups.filter((group) => group.stand_in).map((group) => group.id))
    // Of groups and the mix, what was cut there: their own suspects are looked for where they are worked on.
    const pressed = (strip: Strip): boolean =>
      strip.ledger.some((entry) => entry.move.stand_in) ||
      !!strip.sends?.some((send) => rooms.has(send.to_id)) ||
      (strip.kind === 'track' && !!strip.later) ||
      stripsOf(state.value).some((one) => one.group_id === strip.id && pressed(one))
    const strips = stripsOf(state.value).filter((strip) => {
      if (strip.kind === 'track') return pressed(strip)
      const cured = strip.ledger.some((entry) => entry.evidence && !entry.move.stand_in)
      return cured && !rooms.has(strip.id) && (strip.id === state.value.master.id || pressed(strip))
    })
    results.value = new Map([...results.value].filter(([id]) => strips.some((strip) => strip.id === id)))
    waiting.value = strips.length
    problem.value = ''
    for (const strip of strips) {
      analyse('pressure', { strip_id: strip.id }, now.signal, true)
        .then((answer) => {
          if (!now.signal.aborted) results.value = new Map(results.value).set(strip.id, answer)
        })
        .catch((error: unknown) => {
          if (!now.signal.aborted) problem.value = error instanceof Error ? error.message : String(error)
        })
        .finally(() => {
          if (!now.signal.aborted) waiting.value -= 1
        })
    }
  }
  watch(
    () => (open.value && standsIn.value ? version.value : null),
    (revision) => {
      if (revision !== null) ask()
      else asking?.abort()
    },
  )
  onScopeDispose(() => asking?.abort())

  const rows = computed<PressureRow[]>(() =>
    [...results.value.entries()]
      .flatMap(([stripId, one]) =>
        one.rows.map((row) => ({ ...row, stripId, name: stripOf(state.value, stripId)?.name ?? '' })),
      )
      .sort((a, b) => Number(b.comes_back) - Number(a.comes_back) || b.back_db - a.back_db),
  )
  /** What of the mix falls in mono, while one listens in mono, or the panel is open. */
  const inMono = useRead(
    'mono-sum',
    () => (open.value ? { revision: version.value } : null),
    (_, signal) => analyse('mono-sum', {}, signal, true),
    () => session.id,
  ).answer
  const monoText = computed(() =>
    (inMono.value?.losses ?? []).map((loss) => {
      const names = loss.track_ids.map((id) => stripOf(state.value, id)?.name ?? '').join(', ')
      const place = formatHz(Math.sqrt(loss.low_hz * loss.high_hz))
      const falls = `${place} falls ${Math.abs(loss.falls_db).toFixed(0)} dB in mono`
      return names ? `${falls} (${names})` : falls
    }),
  )

  const coming = computed(() => rows.value.filter((row) => row.comes_back))
  const rowOf = (entryId: string) => rows.value.find((row) => row.entry_id === entryId) ?? null

  function turn() {
    play.pressure.value = !play.pressure.value
    if (play.pressure.value) open.value = true
  }
  function close() {
    open.value = false
    play.pressure.value = false
  }

  const draft = () => edit('Stand-ins for what is done later', [draftStandIns(newId())])
  const remove = () => edit('No stand-ins', [removeStandIns()])

  /** The user's own curve, as it was read from a file: pairs of Hz and dB, rising. */
  const ownCurve = shallowRef<[number, number][]>([])
  async function readCurve(file: File) {
    const lines = (await file.text()).split('\n').map((line) =>
      line
        .trim()
        .split(/[\s,;]+/)
        .map(Number),
    )
    const pairs = lines.flatMap(([hz, db]): [number, number][] =>
      hz !== undefined && db !== undefined && hz > 0 && Number.isFinite(hz + db) ? [[hz, db]] : [],
    )
    pairs.sort(([a], [b]) => a - b)
    const every = Math.ceil(pairs.length / MOST_POINTS) || 1
    const curve = pairs.filter(([hz], index) => index % every === 0 && hz !== pairs[index - every]?.[0])
    problem.value = curve.length < 2 ? `${file.name}: ${NO_CURVE}` : ''
    if (problem.value) return
    ownCurve.value = curve
    listenThrough('curve')
  }
  function listenThrough(kind: Ears) {
    play.through.value = { kind, curve: kind === 'curve' ? ownCurve.value : [] }
  }
  /** The next way to listen, and after the last one plainly again. */
  function nextEars() {
    const known = EARS.filter((one) => one !== 'curve' || ownCurve.value.length > 1)
    listenThrough(known[(known.indexOf(play.through.value.kind) + 1) % known.length] ?? 'nothing')
  }

  let before: { pressure: boolean; ledgerHeard: boolean } | null = null
  /** Hold to hear a row's track with its moves, without them, or under pressure; null lets go. */
  function hear(how: HeardAs | null, row?: PressureRow) {
    if (how === null) {
      if (before) [play.pressure.value, play.ledgerHeard.value] = [before.pressure, before.ledgerHeard]
      before = null
      return
    }
    before ??= { pressure: play.pressure.value, ledgerHeard: play.ledgerHeard.value }
    if (row) chosenId.value = row.stripId
    play.ledgerHeard.value = how !== 'without'
    play.pressure.value = how === 'pressed'
    if (!play.playing.value) void play.play()
  }

  /** Let a file that came back stand in for what was done to its track; tells whether it does. */
  async function cameBack(trackId: string, backId: string, holdsCuts: boolean) {
    problem.value = ''
    try {
      const found = await analyse('came-back', { strip_id: trackId, back_id: backId })
      const { start_frame, louder_db } = found
      await edit(`${stripOf(state.value, trackId)?.name ?? ''}: as it came back`, [
        { do: 'came-back', track_id: trackId, back_id: backId, start_frame, louder_db, holds_cuts: holdsCuts },
      ])
      return true
    } catch (error) {
      problem.value = error instanceof Error ? error.message : String(error)
      return false
    }
  }

  /** Cut further, by as much as holds it down. */
  function deepen(row: PressureRow) {
    const strip = stripOf(known.value, row.stripId)
    const intent = strip && row.entry_id && row.deeper ? setMove(strip, row.entry_id, row.deeper) : null
    if (intent) void edit(`Hold ${Math.round(row.hz)} Hz down`, [intent])
  }

  return {
    open,
    standsIn,
    rows,
    coming,
    monoText,
    rowOf,
    waiting,
    problem,
    turn,
    close,
    draft,
    remove,
    hear,
    deepen,
    cameBack,
    ownCurve,
    readCurve,
    listenThrough,
    nextEars,
  }
}
