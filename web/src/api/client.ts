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
export type ChosenCuts = Schemas['ChosenCuts']
export type ClashView = Schemas['ClashView']
export type ColumnView = Schemas['ColumnView']
export type Draft = Schemas['Draft']
export type Edit = Schemas['Edit']
export type Edited = Schemas['Edited']
export type EnsembleView = Schemas['EnsembleView']
export type Bounce = Schemas['Bounce']
export type Group = Schemas['Group']
export type HandOver = Schemas['HandOver']
export type HandOverRequest = Partial<Schemas['HandOverRequest']> & Pick<Schemas['HandOverRequest'], 'what'>
export type Intent = Edit['intents'][number]
export type Keeper = Schemas['Keeper']
export type LedgerEntry = Schemas['LedgerEntry']
export type LevelMatch = Schemas['LevelMatch']
/** What is sent and what is told differ in which fields of a move may be left out. */
export type Listening = Omit<MonitorSchemas['Listening'], 'preview'> & {
  preview: { strip_id: string; entry_id: string; move: Move } | null
}
export type Mix = MonitorSchemas['Mix']
export type Move = LedgerEntry['move']
export type MixComparison = Schemas['MixComparison']
export type MoveKind = Schemas['MoveKind']
export type Figure = Schemas['Figure']
export type PinAnswers = Schemas['PinAnswers']
export type PileUp = Schemas['PileUp']
export type Pin = Schemas['Pin']
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
export type Cellar = Schemas['CellarView']
export type PitchLine = Schemas['PitchView']
export type Cure = Schemas['CureView']
export type RegionLoss = Schemas['RegionLoss']
export type Track = Schemas['Track']
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

async function call<T>(method: 'GET' | 'POST' | 'DELETE', path: string, body?: unknown): Promise<T> {
  let answer: Response
  try {
    answer = await fetch(`/api${path}`, {
      method,
      headers: body === undefined ? {} : { 'content-type': 'application/json' },
      body: body === undefined ? undefined : JSON.stringify(body),
    })
  } catch {
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

/** What is asked behind an address, without what is null. */
const asked = (figures: Record<string, string | number | boolean | null>) => {
  const told = Object.entries(figures).flatMap(([name, value]) => (value === null ? [] : [[name, String(value)]]))
  return `?${new URLSearchParams(told)}`
}

export const api = {
  about: () => call<About>('GET', '/about'),
  sessions: () => call<SessionSummary[]>('GET', '/sessions'),
  createSession: (name: string, sample_rate_hz: number) =>
    call<SessionState>('POST', '/sessions', { name, sample_rate_hz }),
  session: (id: string) => call<SessionState>('GET', `/sessions/${id}`),
  edit: (id: string, edit: Edit) => call<Edited>('POST', `/sessions/${id}/edits`, edit),
  undo: (id: string, step: StepInHistory) => call<Edited>('POST', `/sessions/${id}/undo`, step),
  redo: (id: string, step: StepInHistory) => call<Edited>('POST', `/sessions/${id}/redo`, step),
  keepDraft: (id: string, draft: Draft) => call<null>('POST', `/sessions/${id}/drafts`, draft),
  storage: (id: string) => call<Storage>('GET', `/sessions/${id}/storage`),
  deleteSession: (id: string) => call<Freed>('DELETE', `/sessions/${id}`),
  deleteAudio: (id: string, audioId: string) => call<Freed>('DELETE', `/sessions/${id}/audio/${audioId}`),
  deleteHandOver: (id: string) => call<Freed>('DELETE', `/handovers/${id}`),
  waveform: (audioId: string, columns: number) =>
    call<Waveform>('GET', `/audio/${audioId}/waveform?columns=${columns}`),
  spectrum: (audioId: string, start: number, end: number, rate: number) =>
    call<Spectrum>('GET', `/audio/${audioId}/spectrum?start=${start}&end=${end}&sample_rate_hz=${rate}`),
  pinAnswers: (id: string, stripId: string, hz: number, widthOctaves: number, excessDb: number | null) =>
    call<PinAnswers>(
      'GET',
      `/sessions/${id}/strips/${stripId}/pin-answers${asked({ hz, width_octaves: widthOctaves, excess_db: excessDb })}`,
    ),
  response: (moves: Move[], sample_rate_hz: number) => call<Responses>('POST', '/response', { moves, sample_rate_hz }),
  ensemble: (id: string) => call<EnsembleView>('GET', `/sessions/${id}/ensemble`),
  draftYield: (id: string, clashId: string, part: number, limitDb: number | null, isDynamic: boolean) =>
    call<YieldDraft>(
      'GET',
      `/sessions/${id}/ensemble/yield${asked({ clash_id: clashId, part, is_dynamic: isDynamic, limit_db: limitDb })}`,
    ),
  mixComparison: (id: string) => call<MixComparison>('GET', `/sessions/${id}/mix/comparison`),
  bounce: (id: string, groupId: string) => call<Bounce>('GET', `/sessions/${id}/groups/${groupId}/sound`),
  treated: (id: string, stripId: string) => call<Bounce>('GET', `/sessions/${id}/strips/${stripId}/treated`),
  pitch: (id: string, stripId: string) => call<PitchLine>('GET', `/sessions/${id}/strips/${stripId}/pitch`),
  cellar: (id: string) => call<Cellar>('GET', `/sessions/${id}/cellar`),
  pileUp: (id: string, cuts: ChosenCuts['cuts']) => call<PileUp>('POST', `/sessions/${id}/cellar/pile-up`, { cuts }),
  suspects: (id: string, stripId: string, startS: number, endS: number) =>
    call<Suspects>('GET', `/sessions/${id}/strips/${stripId}/suspects?start_s=${startS}&end_s=${endS}`),
  survey: (id: string, stripId: string, startS: number, endS: number, amount: number, lowHz: number, highHz: number) =>
    call<SurveyCut[]>(
      'GET',
      `/sessions/${id}/strips/${stripId}/survey` +
        asked({ start_s: startS, end_s: endS, amount, low_hz: lowHz, high_hz: highHz }),
    ),
  loss: (id: string, stripId: string, entryId: string) =>
    call<RegionLoss | null>('GET', `/sessions/${id}/strips/${stripId}/losses/${entryId}`),
  cure: (id: string, stripId: string, entryId: string) =>
    call<Cure>('GET', `/sessions/${id}/strips/${stripId}/cures/${entryId}`),
  handovers: (id: string) => call<HandOver[]>('GET', `/sessions/${id}/handovers`),
  handOver: (id: string, request: HandOverRequest) => call<HandOver>('POST', `/sessions/${id}/handovers`, request),
  cancel: (handoverId: string) => call<HandOver>('POST', `/handovers/${handoverId}/cancel`),
}

/** A picture of a sound's spectrogram, or of what lies between it and what it was before. */
export const pictureUrl = (
  audioId: string,
  timeZoom: number,
  column: number,
  freqZoom: number,
  row: number,
  rate: number,
  beforeId: string | null = null,
) =>
  `/api/audio/${audioId}/${beforeId ? `difference/${beforeId}` : 'picture'}` +
  `/${timeZoom}/${column}/${freqZoom}/${row}.png?sample_rate_hz=${rate}`

/** A browser opens few connections: pictures take two of them at most, so that edits never queue behind pictures. */
const PICTURES_AT_ONCE = 2
const picturesNow: (() => Promise<void>)[] = []
const picturesSoon: (() => Promise<void>)[] = []
let picturesUnderWay = 0

export function loadPicture(url: string, when: 'now' | 'soon'): Promise<HTMLImageElement> {
  return new Promise((resolve, reject) => {
    const load = () =>
      new Promise<void>((done) => {
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
export function upload(path: string, file: File, fields: Record<string, string>, onProgress: (part: number) => void) {
  return new Promise<SessionState>((resolve, reject) => {
    const form = new FormData()
    for (const [name, value] of Object.entries(fields)) form.append(name, value)
    form.append('file', file)
    const request = new XMLHttpRequest()
    request.open('POST', `/api${path}`)
    request.responseType = 'json'
    request.upload.onprogress = (event) => onProgress(event.loaded / Math.max(event.total, 1))
    request.onerror = () => reject(new ApiError('no-connection', `${file.name}: the connection was lost`))
    request.onload = () => {
      if (request.status < 300) resolve(request.response as SessionState)
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
