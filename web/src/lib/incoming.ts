import type { Audio, Intent, StagedPair, Track } from '../api/client'
import { newId } from './moves'

/** A file on its way into the session. */
export interface Incoming {
  name: string
  part: number
  state: 'waiting' | 'sending' | 'reading' | 'in' | 'refused'
  reason: string
  /** Whose markers can become sections, once it is in. */
  marked?: { audioId: string; trackId: string; n: number }
  /** Which track would have to begin sooner, so that what its other file holds is heard when it was. */
  later?: { trackId: string; frames: number }
}

/** What there is to choose of files that arrived together: names of files of many channels, names of pairs. */
export interface IncomingQuestion {
  readonly many: readonly string[]
  readonly pairs: readonly string[]
}
export interface IncomingAnswer {
  readonly channels: 'mono' | 'pairs' | null
  readonly join: boolean
  readonly pairs: readonly StagedPair[]
}

/** What a pair is called; and where its sides are not equally long, that the shorter one ends in silence. */
export function pairSays({ name, shorter_by_s }: StagedPair): string {
  const by = shorter_by_s >= 0.1 ? `${shorter_by_s.toFixed(1)} s` : `${Math.ceil(1_000 * shorter_by_s)} ms`
  return shorter_by_s ? `${name} (one side is ${by} shorter, and would end in silence)` : name
}

/** Sections from each marker of a file to the next one, or to its end; frames of the session. */
export function sectionsOf(track: Track, file: Audio, rateHz: number): Intent[] {
  const ratio = rateHz / file.original_rate_hz
  const markers = file.markers ?? []
  return markers.flatMap(({ frame, name }, at): Intent[] => {
    const end = markers[at + 1]?.frame ?? file.original_frames
    const [start_frame, end_frame] = [frame, end].map((one) => Math.round(one * ratio) + track.start_frame) as [
      number,
      number,
    ]
    return end_frame > start_frame
      ? [{ do: 'add-section', section: { id: newId(), name, start_frame, end_frame } } as Intent]
      : []
  })
}
