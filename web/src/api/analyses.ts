/** Asking the server to analyse: each question is answered at once where the answer is kept, else when it is there. */
import { call, type Treatment } from './client'
import type { NewsStream } from './news'
import type { components, paths } from './schema'

type Path<N extends string> = `/api/sessions/{session_id}/analyses/${N}`
export type AnalysisName = keyof paths extends infer P ? (P extends Path<infer N> ? N : never) : never
type Posted<N extends AnalysisName> = paths[Path<N>]['post']
export type Asked<N extends AnalysisName> = Posted<N>['requestBody']['content']['application/json']
type Answer<N extends AnalysisName> = Posted<N>['responses'][200]['content']['application/json']
export type Shown<N extends AnalysisName> = Exclude<Answer<N>['result'], undefined>
/** A question; what is left out is as the server has it, though its types want to be told. */
export const questionOf = <N extends AnalysisName>(_: N, asked: Partial<Asked<N>>) => asked as Asked<N>

export type Place = components['schemas']['Place']
export type Shows = components['schemas']['AskedPicture']['shows']

const addressOf = (productId: string) => `/api/products/${productId}/picture.png`

export function makeAnalyses(sessionId: string, news: NewsStream, treatment: () => Treatment) {
  /** The product that answers a question, once it is there; `soon`: it can wait for what else is asked. */
  async function product<N extends AnalysisName>(
    name: N,
    asked: Asked<N>,
    signal?: AbortSignal,
    soon = false,
  ): Promise<Answer<N>> {
    const path = `/sessions/${sessionId}/analyses/${name}?soon=${soon}&treatment=${treatment()}`
    for (;;) {
      const headers = { 'x-mivlo-page': news.pageId }
      const answer = await call<Answer<N>>('POST', path, asked, { headers, signal })
      if (answer.status === 'done') return answer
      await news.ended(answer.id, signal)
    }
  }

  /** The answer to a question. */
  async function analyse<N extends AnalysisName>(
    name: N,
    asked: Asked<N>,
    signal?: AbortSignal,
    soon = false,
  ): Promise<NonNullable<Shown<N>>> {
    return (await product(name, asked, signal, soon)).result as NonNullable<Shown<N>>
  }

  /** Where a picture of a strip's spectrogram is, or of what lies between it before and after its moves. */
  async function pictureUrl(
    stripId: string,
    shows: Shows,
    place: Place,
    signal?: AbortSignal,
    soon = false,
  ): Promise<string> {
    const { id } = await product('picture', { strip_id: stripId, shows, place }, signal, soon)
    return addressOf(id)
  }

  /** The same of one of two sides, or of what lies between them. */
  async function sidePictureUrl(sides: Asked<'sides'>, shows: Shows, place: Place, signal?: AbortSignal) {
    const { id } = await product('side-picture', { ...sides, shows, place }, signal)
    return addressOf(id)
  }

  /** The same of a small picture, which can wait for what else is asked. */
  const smallPictureUrl = (stripId: string, place: Place, signal?: AbortSignal) =>
    pictureUrl(stripId, 'before', place, signal, true)

  return { analyse, pictureUrl, smallPictureUrl, sidePictureUrl }
}
