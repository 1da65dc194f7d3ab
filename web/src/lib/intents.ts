/**
 * What can be wanted of a session, and how it looks meanwhile.
 *
 * The page predicts nothing: an edit is shown by its answer. Until then, what was under the pointer stays as it was set
 * (an overlay), and whatever is edited next is decided on that.
 */
import type {
  Edit,
  Group,
  GroupFields,
  Intent,
  Keeper,
  LedgerEntry,
  LedgerFields,
  Move,
  Pin,
  Reference,
  Remark,
  SessionState,
  Strip,
  Track,
  TrackFields,
  Treatment,
} from '../api/client'

export type AnyIntent = Intent
export type SaveState = 'saved' | 'saving' | 'waiting' | 'failed'

/** Make an intent; the generated types want fields that may be left out, but for those with a default. */
type Wanted<D extends Intent['do']> = Partial<Extract<Intent, { do: D }>>
const intent = <D extends Intent['do']>(kind: D, fields: Omit<Wanted<D>, 'do'>): Intent =>
  ({ do: kind, ...fields }) as unknown as Intent

type OnLedgers = Extract<Intent, { treatment: Treatment }>['do']
/** What is done to the ledgers of one treatment; all else is of the session, whichever is worked on. */
const ON_LEDGERS: Record<OnLedgers, true> = {
  'add-move': true,
  'set-move': true,
  'remove-move': true,
  'set-ledger': true,
  'answer-suspect': true,
  'answer-pin': true,
  'draft-stand-ins': true,
  'remove-stand-ins': true,
}
/** An intent on the treatment that is worked on, unless it names another one. */
export const inTreatment = (one: Intent, treatment: Treatment): Intent =>
  one.do in ON_LEDGERS ? ({ treatment, ...one } as Intent) : one
const isOfAnother = (one: Intent, session: SessionState) => 'treatment' in one && one.treatment !== session.treatment

/** The session with another treatment's ledgers in its strips, as the core has it. */
export function asTreated(session: SessionState, letter: Treatment): SessionState {
  if (letter === session.treatment) return session
  const shown = <S extends Strip>(strip: S): S => {
    const { ledger, ledger_on, phase, amount, variants = {} } = strip
    const { [letter]: state, ...others } = variants
    const held = state ?? { ledger: [], ledger_on: true, phase: 'minimum', amount: 100 }
    return { ...strip, ...held, variants: { ...others, [session.treatment]: { ledger, ledger_on, phase, amount } } }
  }
  const { tracks, groups, master } = session
  return { ...session, treatment: letter, tracks: tracks.map(shown), groups: groups.map(shown), master: shown(master) }
}

export const draftStandIns = (groupId: string): Intent => intent('draft-stand-ins', { group_id: groupId })
export const removeStandIns = (): Intent => intent('remove-stand-ins', {})
export const addTreatment = (letter: Treatment, of: Treatment | null, name = ''): Intent =>
  intent('add-treatment', { letter, of, name })

const seenFields = (one: object, fields: object) =>
  Object.fromEntries(Object.keys(fields).map((name) => [name, (one as Record<string, unknown>)[name]]))

export const setTrack = (track: Track, fields: TrackFields): Intent =>
  intent('set-track', { track_id: track.id, fields, seen: seenFields(track, fields) } as Wanted<'set-track'>)

export const setGroup = (group: Group, fields: GroupFields): Intent =>
  intent('set-group', { group_id: group.id, fields, seen: seenFields(group, fields) } as Wanted<'set-group'>)

/** Send a track or group into a group at a level; null: no longer. */
export const setSend = (strip: Strip, toId: string, levelDb: number | null): Intent =>
  intent('set-send', {
    strip_id: strip.id,
    to_id: toId,
    level_db: levelDb,
    seen_db: strip.sends?.find((send) => send.to_id === toId)?.level_db ?? null,
  })

/** Set what tracks and groups have alike. */
export const setStrip = (strip: Strip, fields: GroupFields): Intent =>
  strip.kind === 'track' ? setTrack(strip, fields) : setGroup(strip, fields)

export const setLedger = (strip: Strip, fields: LedgerFields): Intent =>
  intent('set-ledger', { strip_id: strip.id, fields, seen: seenFields(strip, fields) } as Wanted<'set-ledger'>)

export const addMove = (strip: Strip, entry: LedgerEntry, where: { afterId?: string; head?: boolean } = {}): Intent =>
  intent('add-move', {
    strip_id: strip.id,
    entry,
    place: where.head ? 'head' : 'end',
    after_id: where.afterId ?? null,
  })

/** Give a move other figures; null where it is not there any more. */
export function setMove(strip: Strip, entryId: string, move: Move): Intent | null {
  const seen = strip.ledger.find((one) => one.id === entryId)?.move
  return seen ? intent('set-move', { strip_id: strip.id, entry_id: entryId, move, seen }) : null
}

export const removeMove = (strip: Strip, entry: LedgerEntry): Intent =>
  intent('remove-move', { strip_id: strip.id, entry_id: entry.id, seen: entry.move })

export const addPin = (strip: Strip, pin: Pin): Intent => intent('add-pin', { strip_id: strip.id, pin })
export const removePin = (strip: Strip, pinId: string): Intent =>
  intent('remove-pin', { strip_id: strip.id, pin_id: pinId })
export const addKeeper = (strip: Strip, keeper: Keeper): Intent => intent('add-keeper', { strip_id: strip.id, keeper })
export const removeKeeper = (strip: Strip, keeper: Keeper): Intent =>
  intent('remove-keeper', { strip_id: strip.id, keeper })

export const answerPin = (strip: Strip, pin: Pin, answer: 'cut' | 'tame', entry: LedgerEntry): Intent =>
  intent('answer-pin', { strip_id: strip.id, pin, answer, entry })
export const keepPin = (strip: Strip, pin: Pin, keeper: Keeper): Intent =>
  intent('answer-pin', { strip_id: strip.id, pin, answer: 'wanted', keeper })

export const setReference = (reference: Reference, fields: Partial<Reference>): Intent =>
  intent('set-reference', {
    reference_id: reference.id,
    fields,
    seen: seenFields(reference, fields),
  } as Wanted<'set-reference'>)
export const addRemark = (strip: Strip, remark: Remark): Intent => intent('add-remark', { strip_id: strip.id, remark })
export const removeRemark = (strip: Strip, remarkId: string): Intent =>
  intent('remove-remark', { strip_id: strip.id, remark_id: remarkId })

export const setLoop = (frames: { start: number; end: number } | null): Intent =>
  intent('set-loop', { start_frame: frames?.start ?? null, end_frame: frames?.end ?? null })

/** All tracks, then all groups, then the mix. */
export const stripsOf = (session: SessionState): Strip[] => [...session.tracks, ...session.groups, session.master]
/** Those that are there without the pressure test, too. */
export const lastingStripsOf = (session: SessionState): Strip[] =>
  stripsOf(session).filter((one) => one.kind === 'track' || !one.stand_in)
/** The strip as it is shown, or null. */
export const stripOf = (session: SessionState, id: string | null): Strip | null =>
  stripsOf(session).find((one) => one.id === id) ?? null

/** An edit on its way; `id` is its own, for good. */
export interface PendingEdit {
  readonly id: string
  readonly label: string
  readonly intents: readonly Intent[]
}

export const bodyOf = (edit: PendingEdit): Edit => ({ ...edit, author: 'engineer', intents: [...edit.intents] })

/** Return the session with what overlays show: figures that were set, and nothing that comes or goes. */
export function overlaid(session: SessionState, intents: readonly Intent[]): SessionState {
  return intents.reduce((before, one): SessionState => {
    if (isOfAnother(one, session)) return before
    switch (one.do) {
      case 'set-track':
        return withStrip(before, one.track_id, (strip) => ({ ...strip, ...one.fields }) as Strip)
      case 'set-group':
        return withStrip(before, one.group_id, (strip) => ({ ...strip, ...one.fields }) as Strip)
      case 'set-send':
        return withStrip(before, one.strip_id, (strip) => withSend(strip, one.to_id, one.level_db))
      case 'set-ledger':
        return withStrip(before, one.strip_id, (strip) => ({ ...strip, ...one.fields }) as Strip, true)
      case 'set-move':
        return withStrip(before, one.strip_id, (strip) => withMove(strip, one.entry_id, one.move), true)
      case 'set-loop':
        return { ...before, loop_start_frame: one.start_frame, loop_end_frame: one.end_frame }
      case 'set-session':
        return { ...before, ...one.fields }
      default:
        return before
    }
  }, session)
}

const withSend = (strip: Strip, toId: string, levelDb: number | null): Strip => ({
  ...strip,
  sends: (strip.sends ?? []).map((send) =>
    send.to_id === toId && levelDb !== null ? { ...send, level_db: levelDb } : send,
  ),
})

const withMove = (strip: Strip, entryId: string, move: Move): Strip => ({
  ...strip,
  ledger: strip.ledger.map((entry) => (entry.id === entryId ? { ...entry, move } : entry)),
})

/** Change one strip and, where it is of the ledger, its twins, who share it. */
function withStrip(session: SessionState, id: string, change: (strip: Strip) => Strip, shared = false): SessionState {
  const twinId = shared ? (session.tracks.find((track) => track.id === id)?.twin_id ?? null) : null
  const changed = <S extends Strip>(one: S): S =>
    one.id === id || (twinId !== null && one.kind === 'track' && one.twin_id === twinId) ? (change(one) as S) : one
  return {
    ...session,
    tracks: session.tracks.map(changed),
    groups: session.groups.map(changed),
    master: changed(session.master),
  }
}
