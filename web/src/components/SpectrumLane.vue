<script setup lang="ts">
/**
 * The chosen track's spectrum, level running sideways: before in ink, after and taken-away in green, the probe in
 * ochre.
 */
import { onBeforeUnmount, onMounted, useTemplateRef, watch } from 'vue'
import type { PlaceCurve, Probe, Spectrum, Suspect, SurveyCut } from '../api/client'
import { LEVEL_HIGH_DB, LEVEL_LOW_DB, xOfLevel, yOfHz, type FrequencyView } from '../lib/axis'
import { qToOctaves } from '../lib/figures'
import type { Place } from '../lib/places'
import { colours, hatching, oncePerFrame, onRepaint, paintFrequencyLines, surfaceOf, type Surface } from '../lib/canvas'

/** What a passage's spectrum is drawn of; a comparison has no more than its averages. */
type Drawn = Pick<Spectrum, 'level_db'> & Partial<Spectrum>

const props = defineProps<{
  hz: readonly number[]
  spectrum: Drawn | null
  response: readonly number[]
  frequency: FrequencyView
  /** With every move at its full depth, where some come and go. */
  full?: readonly number[] | null
  /** Another track, or the mix, over the same passage. */
  behind?: readonly number[] | null
  live?: readonly number[] | null
  /** The highest live level of each frequency since it was asked to be held. */
  peaks?: readonly number[] | null
  probe?: Probe | null
  heldProbes?: readonly Probe[]
  suspects?: readonly Suspect[]
  /** Cuts that are drafted, not yet taken. */
  drafts?: readonly SurveyCut[]
  /** What a move has learned. */
  places?: readonly Place[]
  /** What each place does to whatever passes it. */
  placeCurve?: PlaceCurve | null
  suspectId?: string | null
}>()
const canvas = useTemplateRef<HTMLCanvasElement>('canvas')
const HARDLY_DB = 0.05
const CURVE_ZERO_DB = -30
const PLACE_SCALE = 3 // what a place does is little beside how far levels reach
const schedule = oncePerFrame(paint)
let stop = () => {}
let placed: { hz: readonly number[]; frequency: FrequencyView; height: number } | null = null
let ys: readonly number[] = [] // of the frequencies: they are the same for many paintings

type Levels = (index: number) => number

function placesOf(height: number): readonly number[] {
  const { hz, frequency } = props
  if (placed?.hz !== hz || placed.frequency !== frequency || placed.height !== height) {
    placed = { hz, frequency, height }
    ys = hz.map((one) => yOfHz(one, frequency, height))
  }
  return ys
}

const levelsOf =
  (levels: readonly number[] | null | undefined): Levels =>
  (index) =>
    levels?.[index] ?? LEVEL_LOW_DB

function trace({ context, width }: Surface, levels: Levels, drawn: (index: number) => boolean = () => true) {
  context.beginPath()
  ys.forEach((y, index) => {
    const x = xOfLevel(levels(index), width)
    if (index && drawn(index - 1)) context.lineTo(x, y)
    else context.moveTo(x, y)
  })
}

/** The area between two curves, as the path to be filled. */
function between(surface: Surface, one: Levels, other: Levels) {
  trace(surface, one)
  for (let index = ys.length - 1; index >= 0; index--)
    surface.context.lineTo(xOfLevel(other(index), surface.width), ys[index] ?? 0)
}

function paint() {
  const surface = canvas.value && surfaceOf(canvas.value)
  if (!surface || !canvas.value) return
  placesOf(surface.height)
  const c = colours(canvas.value)
  const { spectrum, behind, live, peaks, response, full } = props
  const before = levelsOf(spectrum?.level_db)
  paintScale(surface, c.line)
  if (behind) paintBehind(surface, before, levelsOf(behind), c.slate)
  for (const probe of [...(props.heldProbes ?? []), ...(props.probe ? [props.probe] : [])])
    paintProbe(surface, probe, c.ochre, c.ochreFill)
  if (live) paintLive(surface, levelsOf(live), c.ink)
  if (peaks) paintPeaks(surface, levelsOf(peaks), c.ink)
  if (spectrum?.often_db) paintRange(surface, spectrum, c.ink)
  if (spectrum) {
    paintOutlines(surface, spectrum, c.soft)
    if (response.some((db) => Math.abs(db) > HARDLY_DB)) paintTaken(surface, before, response, full, c.green)
    paintAverage(surface, before, c.ink)
  }
  if (props.placeCurve) paintPlaceCurve(surface, props.placeCurve, c.slate)
  paintLearned(surface, c.green)
  paintDrafts(surface, before, c.green)
  paintSuspects(surface, c.vermilion)
  paintFigures(surface, c.soft, c.paper)
}

/**
 * Between what is nearly always there and what is there only now and then: pale ink; what is ever there: a hair line.
 */
function paintRange(surface: Surface, spectrum: Drawn, ink: string) {
  const { context } = surface
  between(surface, levelsOf(spectrum.often_db), levelsOf(spectrum.seldom_db))
  context.fillStyle = ink
  context.globalAlpha = 0.09
  context.fill()
  context.strokeStyle = ink
  context.globalAlpha = 0.4
  context.lineWidth = 0.7
  trace(surface, levelsOf(spectrum.highest_db))
  context.stroke()
  context.globalAlpha = 1
}

/** Another track in slate; hatched where it is the louder one. */
function paintBehind(surface: Surface, before: Levels, other: Levels, slate: string) {
  const { context } = surface
  between(surface, (index) => Math.max(other(index), before(index)), before)
  context.fillStyle = hatching(context, slate)
  context.fill()
  trace(surface, other)
  context.strokeStyle = slate
  context.lineWidth = 1.2
  context.stroke()
}

function paintPeaks(surface: Surface, peaks: Levels, ink: string) {
  surface.context.strokeStyle = ink
  surface.context.globalAlpha = 0.55
  surface.context.lineWidth = 1
  trace(surface, peaks)
  surface.context.stroke()
  surface.context.globalAlpha = 1
}

function paintAverage(surface: Surface, before: Levels, ink: string) {
  surface.context.strokeStyle = ink
  surface.context.lineWidth = 1.2
  trace(surface, before)
  surface.context.stroke()
}

/** The near outline dotted, the far one in long dashes. */
function paintOutlines(surface: Surface, spectrum: Drawn, soft: string) {
  surface.context.strokeStyle = soft
  surface.context.lineWidth = 1
  paintOutline(surface, spectrum.outline_db, [2, 3])
  paintOutline(surface, spectrum.far_outline_db, [9, 5])
}

function paintOutline(surface: Surface, outline: readonly number[] | undefined, dashes: number[]) {
  if (!outline) return
  surface.context.setLineDash(dashes)
  trace(surface, levelsOf(outline))
  surface.context.stroke()
  surface.context.setLineDash([])
}

function paintScale(surface: Surface, line: string) {
  const { context, width, height } = surface
  paintFrequencyLines(surface, props.frequency, line)
  context.strokeStyle = line
  context.lineWidth = 1
  for (let db = -90; db <= LEVEL_HIGH_DB - 6; db += 30) {
    const x = Math.round(xOfLevel(db, width)) + 0.5
    context.beginPath()
    context.moveTo(x, 0)
    context.lineTo(x, height)
    context.stroke()
  }
}

/** The dB figures, over everything else. */
function paintFigures({ context, width, height }: Surface, soft: string, paper: string) {
  context.font = '10px "IBM Plex Mono"'
  context.textAlign = 'center'
  for (let db = -90; db <= LEVEL_HIGH_DB - 6; db += 30) {
    context.fillStyle = paper
    context.fillRect(xOfLevel(db, width) - 11, height - 14, 22, 14)
    context.fillStyle = soft
    context.fillText(`${db}`.replace('-', '−'), xOfLevel(db, width), height - 4)
  }
  context.fillText('dB', width - 10, height - 4)
}

/**
 * Over a zero line of its own, in three times the scale of the lane: to the right it lifts;
 * pale where that is not sure.
 */
function paintPlaceCurve(surface: Surface, curve: PlaceCurve, slate: string) {
  const { context, width, height } = surface
  const zero = xOfLevel(CURVE_ZERO_DB, width)
  context.strokeStyle = slate
  context.lineWidth = 0.7
  context.beginPath()
  context.moveTo(zero, 0)
  context.lineTo(zero, height)
  context.stroke()
  context.lineWidth = 2
  for (const sure of [false, true]) {
    context.globalAlpha = sure ? 1 : 0.3
    context.beginPath()
    curve.hz.forEach((hz, index) => {
      const [x, y] = [
        xOfLevel(CURVE_ZERO_DB + PLACE_SCALE * (curve.db[index] ?? 0), width),
        yOfHz(hz, props.frequency, height),
      ]
      if (index && (curve.sure[index] ?? 0) >= curve.sure_from === sure) context.lineTo(x, y)
      else context.moveTo(x, y)
    })
    context.stroke()
  }
  context.globalAlpha = 1
}

/** From the right edge inwards, by as much as each learned place adds. */
function paintLearned({ context, width, height }: Surface, green: string) {
  if (!props.places?.length) return
  const db = (level: number) => PLACE_SCALE * (xOfLevel(0, width) - xOfLevel(-level, width))
  context.beginPath()
  context.moveTo(width, yOfHz(props.places[0]?.[0] ?? 20, props.frequency, height))
  for (const [hz, adds] of props.places) context.lineTo(width - db(adds), yOfHz(hz, props.frequency, height))
  context.lineTo(width, yOfHz(props.places.at(-1)?.[0] ?? 20, props.frequency, height))
  context.fillStyle = green
  context.globalAlpha = 0.3
  context.fill()
  context.globalAlpha = 1
}

/** Drafted cuts, dashed across the lane: a notch in the spectrum, as wide as each is and three times as deep. */
function paintDrafts({ context, width, height }: Surface, before: Levels, green: string) {
  context.strokeStyle = green
  context.lineWidth = 1.5
  context.setLineDash([4, 3])
  for (const { move } of props.drafts ?? []) {
    const index = nearest(move.hz)
    const half = 2 ** (qToOctaves(move.q ?? 1) / 2)
    const at = (db: number) => xOfLevel(before(index) + db, width)
    context.beginPath()
    context.moveTo(at(0), yOfHz(move.hz * half, props.frequency, height))
    context.lineTo(at(PLACE_SCALE * (move.gain_db ?? 0)), yOfHz(move.hz, props.frequency, height))
    context.lineTo(at(0), yOfHz(move.hz / half, props.frequency, height))
    context.moveTo(0, yOfHz(move.hz, props.frequency, height))
    context.lineTo(at(PLACE_SCALE * (move.gain_db ?? 0)), yOfHz(move.hz, props.frequency, height))
    context.moveTo(at(0), yOfHz(move.hz, props.frequency, height))
    context.lineTo(width, yOfHz(move.hz, props.frequency, height))
    context.stroke()
  }
  context.setLineDash([])
}

/** The index of the frequency nearest to one. */
function nearest(hz: number): number {
  const [low, high] = [props.hz[0] ?? 20, props.hz.at(-1) ?? 20_000]
  return Math.round((Math.log2(hz / low) / Math.log2(high / low)) * (props.hz.length - 1))
}

/** Brackets at the side, as wide as each suspect: never over the curve. */
function paintSuspects({ context, width, height }: Surface, vermilion: string) {
  context.strokeStyle = vermilion
  for (const one of props.suspects ?? []) {
    const half = Math.max(Math.asinh(1 / (2 * one.q)) / Math.LN2, 0.03)
    const top = yOfHz(one.hz * 2 ** half, props.frequency, height)
    const bottom = yOfHz(one.hz / 2 ** half, props.frequency, height)
    context.lineWidth = one.id === props.suspectId ? 3 : 1.5
    context.beginPath()
    context.moveTo(width - 8, top)
    context.lineTo(width - 2, top)
    context.lineTo(width - 2, bottom)
    context.lineTo(width - 8, bottom)
    context.stroke()
  }
}

function paintProbe({ context, width, height }: Surface, probe: Probe, ochre: string, fill: string) {
  const half = 2 ** ((probe.width_octaves ?? 0.25) / 2)
  const top = yOfHz(probe.hz * half, props.frequency, height)
  const bottom = yOfHz(probe.hz / half, props.frequency, height)
  context.fillStyle = fill
  context.fillRect(0, top, width, bottom - top)
  context.fillStyle = ochre
  context.fillRect(0, top, width, 1)
  context.fillRect(0, bottom, width, 1)
}

function paintLive(surface: Surface, live: Levels, ink: string) {
  const { context, height } = surface
  context.fillStyle = ink
  context.globalAlpha = 0.16
  trace(surface, live)
  context.lineTo(0, 0)
  context.lineTo(0, height)
  context.fill()
  context.globalAlpha = 1
}

/** What is taken away, and the outline of what would be at most. */
function paintTaken(
  surface: Surface,
  before: Levels,
  response: readonly number[],
  full: readonly number[] | null | undefined,
  green: string,
) {
  const { context } = surface
  const changed = (by: readonly number[]) => (index: number) => before(index) + (by[index] ?? 0)
  const isDrawn = (by: readonly number[]) => (index: number) => Math.abs(by[index] ?? 0) > HARDLY_DB
  between(surface, before, changed(response))
  context.globalAlpha = 0.22
  context.fillStyle = green
  context.fill()
  context.globalAlpha = 1
  context.fillStyle = hatching(context, green)
  context.fill()
  context.strokeStyle = green
  if (full) {
    context.lineWidth = 1
    context.setLineDash([5, 3])
    trace(surface, changed(full), isDrawn(full))
    context.stroke()
    context.setLineDash([])
  }
  context.lineWidth = 2
  trace(surface, changed(response), isDrawn(response))
  context.stroke()
}

onMounted(() => {
  if (canvas.value) stop = onRepaint(canvas.value, schedule)
})
onBeforeUnmount(() => stop())
watch(
  () => [
    props.spectrum,
    props.response,
    props.full,
    props.live,
    props.frequency,
    props.probe,
    props.heldProbes,
    props.behind,
    props.peaks,
    props.suspects,
    props.suspectId,
    props.drafts,
    props.places,
    props.placeCurve,
  ],
  schedule,
)
</script>

<template><canvas ref="canvas" class="lane" role="img" aria-label="Spectrum of the chosen track"></canvas></template>

<style scoped>
.lane {
  width: 100%;
  height: 100%;
  display: block;
}
</style>
