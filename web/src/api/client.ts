/**
 * The only place that fetches. Types come from the server's own documents: set-up writes schema.d.ts from
 * docs/openapi.json and monitor.d.ts from docs/monitor.json.
 */
import type { components as monitorComponents } from './monitor'
import type { components } from './schema'

type Schemas = components['schemas']
type MonitorSchemas = monitorComponents['schemas']
export type About = Schemas['About']
export type Audio = Schemas['Audio']
export type ChosenCuts = Schemas['AskedPileUp']
export type ClashView = Schemas['ClashView']
export type ColumnView = Schemas['ColumnView']
export type PlannedColumn = Schemas['PlannedColumn']
export type PlanMove = Schemas['PlanMoveView']
export type Draft = Schemas['Draft']
export type Edit = Schemas['Edit']
export type Edited = Schemas['Edited']
export type EnsembleView = Schemas['EnsembleView']
export type Group = Schemas['Group']
export type HandOver = Schemas['HandOver']
export type HandOverRequest = Partial<Schemas['HandOverRequest']> & Pick<Schemas['HandOverRequest'], 'what'>
export type Intent = Edit['intents'][number]
export type ListenedTo = Schemas['ListenedTo']
export type Keeper = Schemas['Keeper']
export type LedgerEntry = Schemas['LedgerEntry']
export type LevelMatch = Schemas['LevelMatch']
/** What is sent and what is told differ in which fields of a move may be left out. */
export type Listening = Omit<MonitorSchemas['Listening'], 'preview'> & {
  preview: {
    strip_id: string
    entry_id: string | null
    move: Move | null
    amount: number | null
    treatment: Treatment
  } | null
}
export type Compared = NonNullable<MonitorSchemas['Listening']['compared']>
export type Blind = NonNullable<MonitorSchemas['Listening']['blind']>
export type Mix = MonitorSchemas['Mix']
export type Move = LedgerEntry['move']
export type MixComparison = Schemas['MixComparison']
export type MoveKind = Schemas['MoveKind']
export type Figure = Schemas['Figure']
export type PinAnswers = Schemas['PinAnswers']
export type PileUp = Schemas['PileUp']
export type Pin = Schemas['Pin']
export type SoundFigures = Schemas['SoundFigures']
export type StagedFile = Schemas['StagedFile']
export type StagedPair = Schemas['StagedPair']
export type TrackReplaced = Schemas['TrackReplaced']
export type Shelved = Schemas['Shelved']
export type Reference = Schemas['Reference']
export type Remark = Schemas['Remark']
export type Probe = MonitorSchemas['Probe']
export type Problem = Schemas['Problem']
export type ProofView = Schemas['ProofView']
export type ReadyStart = Schemas['ReadyStart']
export type RegionRule = Schemas['RegionRule']
export type Responses = Schemas['Responses']
export type RightOfWay = Schemas['RightOfWay']
export type Role = Track['role']
export type SessionState = Schemas['SessionState']
export type Section = Schemas['Section']
export type SessionSummary = Schemas['SessionSummary']
export type Spectrum = Schemas['Spectrum']
export type Freed = Schemas['Freed']
export type Storage = Schemas['Storage']
export type StepInHistory = Schemas['StepInHistory']
export type Suspect = Schemas['SuspectView']
export type Suspects = Schemas['Suspects']
export type SurveyCut = Schemas['SurveyCut']
export type SurveyView = Schemas['SurveyView']
export type PlaceCurve = Schemas['PlaceCurveView']
export type Cellar = Schemas['CellarView']
export type PitchLine = Schemas['PitchView']
export type Cure = Schemas['CureView']
export type RoundRow = Schemas['RoundRow']
export type RoundView = Schemas['RoundView']
export type RegionLoss = Schemas['RegionLoss']
export type Track = Schemas['Track']
export type Treatment = Schemas['TreatmentName']['letter']
export type Difference = Schemas['Difference']
export type KeptMoves = Schemas['KeptMoves']
export type NewKeptMoves = Schemas['NewKeptMoves']
export type Report = Schemas['Report']
export type AskedCheck = Schemas['AskedCheck']
export type BlindCheck = Schemas['BlindCheck']
/** What can be on the bench: a track, a group, or the mix. */
export type Strip = Track | Group
export type TrackFields = Partial<Schemas['TrackFields']>
export type GroupFields = Partial<Schemas['GroupFields']>
export type LedgerFields = Partial<Schemas['LedgerFields']>
export type Waveform = Schemas['Waveform']
export type YieldDraft = Schemas['YieldView']
export type FromPage = MonitorSchemas['FromPage']
export type FromMonitor = MonitorSchemas['FromMonitor']

/** What the server refused or could not do, in its own words. */
export class ApiError extends Error {
  constructor(
    readonly code: Problem['code'] | 'no-connection',
    message: string,
  ) {
    super(message)
  }
}

export async function call<T>(
  method: 'GET' | 'POST' | 'DELETE',
  path: string,
  body?: unknown,
  more: { headers?: Record<string, string>; signal?: AbortSignal | undefined } = {},
): Promise<T> {
  let answer: Response
  try {
    answer = await fetch(`/api${path}`, {
      method,
      headers: { ...more.headers, ...(body === undefined ? {} : { 'content-type': 'application/json' }) },
      body: body === undefined ? undefined : JSON.stringify(body),
      signal: more.signal ?? null,
    })
  } catch (error) {
    if (more.signal?.aborted) throw error
    throw new ApiError('no-connection', 'The server does not answer. Nothing was saved by this step.')
  }
  if (!answer.ok) throw await problemOf(answer)
  return (answer.status === 204 ? null : await answer.json()) as T
}

async function problemOf(answer: Response): Promise<ApiError> {
  try {
    const problem = (await answer.json()) as Problem
    return new ApiError(problem.code, problem.message)
  } catch {
    return new ApiError(
      'mivlo-error',
      `Something went wrong inside Mivlo (status ${answer.status}). Nothing that was saved is lost: ` +
        'try again, or load the page anew.',
    )
  }
}

export const api = {
  about: () => call<About>('GET', '/about'),
  sessions: () => call<SessionSummary[]>('GET', '/sessions'),
  createSession: (name: string, sample_rate_hz: number) =>
    call<SessionState>('POST', '/sessions', { name, sample_rate_hz }),
  /** A session at the rate that most of some files have. */
  createSessionOf: (name: string, staged: string[]) => call<SessionState>('POST', '/sessions', { name, staged }),
  takeStaged: (id: string, file_ids: string[], channels: 'mono' | 'pairs' | null) =>
    call<SessionState>('POST', `/sessions/${id}/tracks/staged`, { file_ids, channels }),
  pairsOf: (fileIds: string[]) => call<StagedPair[]>('POST', '/staged/pairs', fileIds),
  openStagedBundle: (fileId: string) => call<SessionState>('POST', `/bundles/staged/${fileId}`),
  session: (id: string) => call<SessionState>('GET', `/sessions/${id}`),
  edit: (id: string, edit: Edit) => call<Edited>('POST', `/sessions/${id}/edits`, edit),
  undo: (id: string, step: StepInHistory) => call<Edited>('POST', `/sessions/${id}/undo`, step),
  redo: (id: string, step: StepInHistory) => call<Edited>('POST', `/sessions/${id}/redo`, step),
  differences: (id: string, treatment: Treatment, other: Treatment, signal: AbortSignal) =>
    call<Difference[]>('GET', `/sessions/${id}/differences?treatment=${treatment}&other=${other}`, undefined, {
      signal,
    }),
  keptMoves: (signal?: AbortSignal) => call<KeptMoves[]>('GET', '/kept-moves', undefined, { signal }),
  keepMoves: (kept: NewKeptMoves) => call<KeptMoves>('POST', '/kept-moves', kept),
  keptMovesAt: (keptId: string, amount: number) => call<Move[]>('GET', `/kept-moves/${keptId}/moves?amount=${amount}`),
  removeKept: (keptId: string) => call<null>('DELETE', `/kept-moves/${keptId}`),
  report: (id: string, treatment: Treatment, signal?: AbortSignal) =>
    call<Report>('GET', `/sessions/${id}/report.json?treatment=${treatment}`, undefined, { signal }),
  blindChecks: (id: string, signal?: AbortSignal) =>
    call<BlindCheck[]>('GET', `/sessions/${id}/blind-checks`, undefined, { signal }),
  beginBlindCheck: (id: string, asked: AskedCheck) => call<BlindCheck>('POST', `/sessions/${id}/blind-checks`, asked),
  answerBlindCheck: (id: string, checkId: string, trial: number, choice: 'A' | 'B') =>
    call<BlindCheck>('POST', `/sessions/${id}/blind-checks/${checkId}/answers`, { trial, choice }),
  round: (id: string, treatment: Treatment, pageId: string, asks: boolean, signal: AbortSignal) =>
    call<RoundView>('GET', `/sessions/${id}/round?asks=${asks}&treatment=${treatment}`, undefined, {
      headers: { 'x-mivlo-page': pageId },
      signal,
    }),
  keepDraft: (id: string, draft: Draft) => call<null>('POST', `/sessions/${id}/drafts`, draft),
  storage: (id: string) => call<Storage>('GET', `/sessions/${id}/storage`),
  /** Onto the shelf, or (also from there) for good. */
  deleteSession: (id: string, forGood = false) => call<Freed>('DELETE', `/sessions/${id}?for_good=${forGood}`),
  shelf: () => call<Shelved[]>('GET', '/sessions/shelf'),
  bringBack: (id: string) => call<SessionState>('POST', `/sessions/${id}/unshelve`),
  deleteAudio: (id: string, audioId: string) => call<Freed>('DELETE', `/sessions/${id}/audio/${audioId}`),
  deleteHandOver: (id: string) => call<Freed>('DELETE', `/handovers/${id}`),
  response: (moves: Move[], sample_rate_hz: number, amount: number) =>
    call<Responses>('POST', '/response', { moves, sample_rate_hz, amount }),
  /** The moves of a treatment file; one that cannot be read is refused by its field. */
  movesOfTreatment: (file: unknown) => call<Move[]>('POST', '/treatment/moves', file),
  listening: (id: string) => call<ListenedTo>('GET', `/sessions/${id}/listening`),
  handovers: (id: string) => call<HandOver[]>('GET', `/sessions/${id}/handovers`),
  handOver: (id: string, request: HandOverRequest) => call<HandOver>('POST', `/sessions/${id}/handovers`, request),
  cancel: (handoverId: string) => call<HandOver>('POST', `/handovers/${handoverId}/cancel`),
}

/** A browser opens few connections: pictures take two of them at most, so that edits never queue behind pictures. */
const PICTURES_AT_ONCE = 2
const picturesNow: (() => Promise<void>)[] = []
const picturesSoon: (() => Promise<void>)[] = []
let picturesUnderWay = 0

/** Load a picture; its address may itself have to be asked for. */
export function loadPicture(
  address: () => Promise<string>,
  when: 'now' | 'soon',
  signal?: AbortSignal,
): Promise<HTMLImageElement> {
  return address().then((url) => loadFrom(url, when, signal))
}

function loadFrom(url: string, when: 'now' | 'soon', signal?: AbortSignal): Promise<HTMLImageElement> {
  return new Promise((resolve, reject) => {
    const load = () =>
      new Promise<void>((done) => {
        if (signal?.aborted) return void (done(), reject(signal.reason as Error))
        const picture = new Image()
        picture.onload = () => (done(), resolve(picture))
        picture.onerror = () => (done(), reject(new ApiError('no-connection', `No picture from ${url}`)))
        picture.src = url
      })
    // The newest view comes first: what was scrolled past can wait.
    if (when === 'now') picturesNow.unshift(load)
    else picturesSoon.push(load)
    loadNext()
  })
}

function loadNext() {
  const next = picturesUnderWay < PICTURES_AT_ONCE ? (picturesNow.shift() ?? picturesSoon.shift()) : undefined
  if (!next) return
  picturesUnderWay += 1
  void next().finally(() => {
    picturesUnderWay -= 1
    loadNext()
  })
  loadNext()
}

/** Send one file, telling how much has gone up (0..1). */
export function upload<Answer = SessionState>(
  path: string,
  file: File,
  fields: Record<string, string>,
  onProgress: (part: number) => void,
) {
  return new Promise<Answer>((resolve, reject) => {
    const form = new FormData()
    for (const [name, value] of Object.entries(fields)) form.append(name, value)
    form.append('file', file)
    const request = new XMLHttpRequest()
    request.open('POST', `/api${path}`)
    request.responseType = 'json'
    request.upload.onprogress = (event) => onProgress(event.loaded / Math.max(event.total, 1))
    request.onerror = () => reject(new ApiError('no-connection', `${file.name}: the connection was lost`))
    request.onload = () => {
      if (request.status < 300) resolve(request.response as Answer)
      else {
        const problem = request.response as Problem | null
        reject(
          new ApiError(problem?.code ?? 'mivlo-error', problem?.message ?? `${file.name}: status ${request.status}`),
        )
      }
    }
    request.send(form)
  })
}
