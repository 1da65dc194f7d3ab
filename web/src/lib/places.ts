/** What a plane has learned: pairs of Hz and dB, rising, which stand in runs that begin and end at 0 dB. */
export type Place = readonly [hz: number, db: number]

/** A run of places that stand together: where it begins and ends, and its highest place. */
export interface Run {
  readonly lowHz: number
  readonly highHz: number
  readonly topHz: number
  readonly topDb: number
  readonly places: readonly Place[]
}

export function runsOf(places: readonly Place[]): Run[] {
  const runs: Place[][] = []
  let open: Place[] = []
  for (const place of places) {
    open.push(place)
    if (place[1] > 0 || open.length === 1) continue
    // Two pairs at 0 dB in a row: one run has ended before, another begins here.
    if (open.some(([, db]) => db > 0)) runs.push(open)
    open = open.some(([, db]) => db > 0) ? [] : [place]
  }
  if (open.some(([, db]) => db > 0)) runs.push(open)
  return runs.map((run) => {
    const [topHz, topDb] = run.reduce((best, one) => (one[1] > best[1] ? one : best))
    return { lowHz: run[0]?.[0] ?? topHz, highHz: run.at(-1)?.[0] ?? topHz, topHz, topDb, places: run }
  })
}

/** All places but those of one run; its two ends stay at 0 dB, so that a move which has listened still knows it. */
export const withoutRun = (places: readonly Place[], run: Run): Place[] =>
  places.flatMap((place) => {
    const isEnd = place === run.places[0] || place === run.places.at(-1)
    return !run.places.includes(place) ? [place] : isEnd ? [[place[0], 0] as const] : []
  })

/** What the curve of places says of a frequency, in words; nothing outside of the curve. */
export function saysOfPlace(
  curve: { hz: readonly number[]; db: readonly number[]; sure: readonly number[]; sure_from: number },
  hz: number,
): string {
  const [first = 1, second = 2] = curve.hz
  const index = Math.round(Math.log2(hz / first) / Math.log2(second / first))
  const [db, sure] = [curve.db[index], curve.sure[index]]
  if (db === undefined || sure === undefined) return ''
  if (sure < curve.sure_from / 2) return 'too little passed this place to know'
  const how = Math.abs(db) < 0.5 ? 'leaves what passes it as it is' : `${db > 0 ? 'lifts' : 'lowers'} what passes it by`
  const by = Math.abs(db) < 0.5 ? '' : ` ${Math.abs(db).toFixed(0)} dB`
  return `this place ${how}${by}, ${sure >= curve.sure_from ? 'sure' : 'not sure'}`
}
