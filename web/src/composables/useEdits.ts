/** What is done on the bench to the chosen track: its moves, pins and keepers. */
import { computed, ref, watch } from 'vue'
import { api, type LedgerEntry, type Move, type Pin, type Strip } from '../api/client'
import { formatHz } from '../lib/figures'
import * as intents from '../lib/intents'
import { kindOf, moveOfKind, newId, placeHz, startedAs } from '../lib/moves'
import type { Bench } from './useBench'
import type { Play } from './usePlay'
import type { SessionStore } from './useSession'

const MOST_AMOUNT = 150 // per cent
const withinAmount = (amount: number) => Math.min(Math.max(Math.round(amount), 0), MOST_AMOUNT)
const GIVING = 'measuring what is gone …'
const SPOT_S = 0.8 // either side of a spot that is looked at

export type Edits = ReturnType<typeof makeEdits>

export function makeEdits(session: SessionStore, play: Play, bench: Bench) {
  const { about, known, knownChosen, chosen, overlay, edit } = session
  const { pointerHz, entryId, markedHz, excessAt } = bench

  /** Edit a strip (the chosen one, where none is named), as it is known to the server once it is edited. */
  async function onStrip(
    label: string,
    change: (strip: Strip) => (intents.AnyIntent | null)[],
    stripId = knownChosen()?.id,
  ): Promise<boolean> {
    await session.stepped()
    const strip = intents.stripOf(known.value, stripId ?? null)
    return strip ? edit(label, change(strip)) : false
  }

  /** What the core says to a pin; without an answer nothing is done. */
  async function answersTo(pin: Pin) {
    const strip = chosen.value
    if (!strip) return null
    const { hz, width_octaves, excess_db = null } = pin
    return session.analyse('pin-answers', { strip_id: strip.id, hz, width_octaves, excess_db }).catch(() => null)
  }

  const pinAt = (hz: number): Pin => ({
    id: newId(),
    hz,
    width_octaves: bench.probeWidth.value,
    excess_db: excessAt(hz),
  })

  /** Mark what is under the pointer: a pin; while a dip shows that the track needs it, a keeper. */
  async function dropPin() {
    const hz = play.probe.value?.hz ?? pointerHz.value
    if (hz === null) return
    const pin = pinAt(hz)
    if (play.probe.value?.kind !== 'dip') {
      await onStrip(`Pin at ${formatHz(hz)}`, (strip) => [intents.addPin(strip, pin)])
      return
    }
    const answers = await answersTo(pin)
    if (answers) await onStrip(`Keep ${formatHz(hz)}`, (strip) => [intents.addKeeper(strip, answers.keeper)])
  }

  const entryOf = (move: Move, reason = ''): LedgerEntry => ({ id: newId(), move, reason, evidence: null, clash: null })

  function labelOf(move: Move): string {
    const hz = placeHz(about.value.kinds, move)
    return hz === null ? (kindOf(about.value.kinds, move)?.label ?? move.kind) : `Cut at ${formatHz(hz)}`
  }

  async function addMove(move: Move, reason = '') {
    const added = entryOf(move, reason)
    entryId.value = added.id
    await onStrip(labelOf(move), (strip) => [intents.addMove(strip, added)])
  }

  function addBell(hz: number) {
    const bell = about.value.kinds[0]
    if (bell) void addMove(moveOfKind(bell, hz))
  }

  /** A note with its overtones as one move. */
  function addFamily(hz: number) {
    const kind = about.value.kinds.find((one) => one.kind === 'note-family')
    const start = kind?.starts.find((one) => !('hz' in one.values))
    if (kind && start) {
      void addMove(startedAs(moveOfKind(kind, hz), start), `The note at ${formatHz(hz)} with its overtones`)
    }
    markedHz.value = null
  }

  const toldOfPin = (pin: Pin) =>
    `Pinned at ${formatHz(pin.hz)}${pin.excess_db == null ? '' : `, stands out ${pin.excess_db.toFixed(1)} dB`}`

  /** Answer a pin with a cut, or with a dynamic bell that acts only in the loud moments. */
  async function answerPin(pin: Pin, how: 'cut' | 'tame') {
    const answers = await answersTo(pin)
    if (!answers) return
    const added = entryOf(answers[how], toldOfPin(pin))
    entryId.value = added.id
    await onStrip(labelOf(added.move), (strip) => [intents.answerPin(strip, pin, how, added)])
  }

  /** Say that what a pin marks is wanted: nothing adaptive touches it, and a move into it is flagged. */
  async function keepPin(pin: Pin) {
    const answers = await answersTo(pin)
    if (answers) await onStrip(`Keep ${formatHz(pin.hz)}`, (strip) => [intents.keepPin(strip, pin, answers.keeper)])
  }

  const removeKeeper = (index: number) =>
    onStrip('Remove a keeper', (strip) => {
      const keeper = strip.keepers[index]
      return keeper ? [intents.removeKeeper(strip, keeper)] : []
    })

  /** Copy moves of the ledger, in its order, to another track or group, as one step. */
  async function copyMoves(ids: readonly string[], targetId: string) {
    const found = chosen.value?.ledger.filter((one) => ids.includes(one.id)) ?? []
    const target = intents.stripOf(known.value, targetId)
    if (!found.length || !target) return
    const what = found.length === 1 ? 'a move' : `${found.length} moves`
    const reason = `Copied from ${chosen.value?.name}`
    const copied = found.map(({ move }) => intents.addMove(target, entryOf(move, reason)))
    await edit(`Copy ${what} to ${target.name}`, copied)
  }

  /** A treatment file becomes moves of a track, as one step; returns why not, where it cannot. */
  async function takeTreatment(file: File, stripId: string): Promise<string> {
    const strip = intents.stripOf(known.value, stripId)
    if (!strip) return ''
    try {
      const told = JSON.parse(await file.text()) as unknown
      const moves = await api.movesOfTreatment(told)
      if (!moves.length) return `${file.name} holds no moves`
      const reason = `From ${file.name}`.slice(0, 500)
      const added = moves.map((move) => intents.addMove(strip, entryOf(move, reason)))
      await edit(`${moves.length} moves of ${file.name} to ${strip.name}`.slice(0, 200), added)
      return ''
    } catch (error) {
      if (error instanceof SyntaxError) return `${file.name} is no treatment file: it is not JSON`
      return `${file.name}: ${error instanceof Error ? error.message : String(error)}`
    }
  }

  const removePin = (id: string) => onStrip('Remove a pin', (strip) => [intents.removePin(strip, id)])

  const changeMove = (id: string, move: Move, label: string) =>
    onStrip(label, (strip) => [intents.setMove(strip, id, move)])

  /** Show and play a move as it is being dragged; nothing is saved before the drag ends. */
  function previewMove(id: string, move: Move) {
    const strip = knownChosen()
    overlay.value = strip && intents.setMove(strip, id, move)
  }

  const removeMove = (id: string) =>
    onStrip('Remove a move', (strip) =>
      strip.ledger.filter((one) => one.id === id).map((entry) => intents.removeMove(strip, entry)),
    )

  function duplicateMove(id: string) {
    const one = chosen.value?.ledger.find((entry) => entry.id === id)
    if (!one) return Promise.resolve(false)
    const copy = { ...one, id: newId() }
    entryId.value = copy.id
    return onStrip('Duplicate a move', (strip) => [intents.addMove(strip, copy, { afterId: id })])
  }

  /** A spot of the spectrogram: loops around it, and a pin at its frequency, as one step. */
  function lookAt(hz: number, seconds: number) {
    const pin = pinAt(hz)
    const range = { startS: Math.max(seconds - SPOT_S, 0), endS: Math.min(seconds + SPOT_S, bench.songS.value) }
    void onStrip(`Look at ${formatHz(hz)}`, (strip) => [bench.loopIntent(range), intents.addPin(strip, pin)])
  }

  const setPhase = (phase: 'minimum' | 'linear') =>
    onStrip(`${phase === 'linear' ? 'Linear' : 'Minimum'} phase`, (strip) => [intents.setLedger(strip, { phase })])

  /** All moves nearer to nothing, or further: by how much, in per cent. */
  const amount = computed(() => chosen.value?.amount ?? 100)
  const setAmount = (amount: number) =>
    onStrip(`Amount ${Math.round(amount)} %`, (strip) => [intents.setLedger(strip, { amount: withinAmount(amount) })])

  /** Hear an amount while it is being dragged; nothing is saved before the drag ends. */
  function previewAmount(amount: number) {
    const strip = knownChosen()
    overlay.value = strip && intents.setLedger(strip, { amount: withinAmount(amount) })
  }

  const givingBack = ref('')
  /** Draft the harmonics that bring half of it back, measured: at the head, where they hear what is cut behind them. */
  async function giveBack(share = 50) {
    const strip = chosen.value
    if (!strip || givingBack.value === GIVING) return
    givingBack.value = GIVING
    try {
      const told = await session.analyse('give-back', { strip_id: strip.id, share })
      const percent = (part: number) => `${Math.round(100 * part)} %`
      const lows = `lows ${percent(told.lost_low)} gone, now ${percent(told.left_low)}`
      const highs = `highs ${percent(told.lost_high)} gone, now ${percent(told.left_high)}`
      givingBack.value = told.moves.length
        ? `${lows}; ${highs}`
        : 'the cuts took nothing that could be given back without bringing a fault with it'
      if (told.moves.length && chosen.value?.id === strip.id)
        await onStrip('Give back what the cuts took', (now) =>
          [...told.moves]
            .reverse()
            .map((move) => intents.addMove(now, entryOf(move, `${lows}; ${highs}`), { head: true })),
        )
    } catch (error) {
      givingBack.value = error instanceof Error ? error.message : String(error)
    }
  }
  watch(
    () => chosen.value?.id,
    () => (givingBack.value = ''),
  )

  const toggleLedger = () =>
    onStrip(chosen.value?.ledger_on ? 'All moves off' : 'All moves on', (strip) => [
      intents.setLedger(strip, { ledger_on: !strip.ledger_on }),
    ])

  const picked = ref<ReadonlySet<string>>(new Set())
  watch(
    () => chosen.value?.id,
    () => (picked.value = new Set()),
  )
  /** Moves picked to be copied together, those of them that are still there. */
  const pickedIds = computed<ReadonlySet<string>>(
    () => new Set(chosen.value?.ledger.map((one) => one.id).filter((id) => picked.value.has(id))),
  )

  function pick(id: string) {
    const ids = new Set(pickedIds.value)
    if (!ids.delete(id)) ids.add(id)
    picked.value = ids
  }

  /** Copy what is picked, or all moves where nothing is. */
  function copyPicked(targetId: string) {
    const all = chosen.value?.ledger.map((one) => one.id) ?? []
    void copyMoves(pickedIds.value.size ? [...pickedIds.value] : all, targetId)
    picked.value = new Set()
  }

  return {
    addMove,
    onStrip,
    dropPin,
    lookAt,
    addBell,
    addFamily,
    answerPin,
    keepPin,
    removePin,
    removeKeeper,
    copyMoves,
    takeTreatment,
    changeMove,
    previewMove,
    removeMove,
    duplicateMove,
    setPhase,
    amount,
    setAmount,
    previewAmount,
    giveBack,
    givingBack,
    toggleLedger,
    pickedIds,
    pick,
    copyPicked,
  }
}
