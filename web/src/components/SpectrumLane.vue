<script setup lang="ts">
/**
 * The chosen track's spectrum, level running sideways: before in ink, after and taken-away in green, the probe in
 * ochre.
 */
import { onBeforeUnmount, onMounted, useTemplateRef, watch } from 'vue'
import type { Probe, Spectrum, Suspect } from '../api/client'
import { LEVEL_HIGH_DB, LEVEL_LOW_DB, xOfLevel, yOfHz, type FrequencyView } from '../lib/axis'
import { colours, hatching, onRepaint, paintFrequencyLines, surfaceOf, type Surface } from '../lib/canvas'

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
  suspectId?: string | null
}>()
const canvas = useTemplateRef<HTMLCanvasElement>('canvas')
const HARDLY_DB = 0.05
let stop = () => {}

function trace(surface: Surface, levels: (index: number) => number, drawn: (index: number) => boolean = () => true) {
  const { context, width, height } = surface
  context.beginPath()
  props.hz.forEach((hz, index) => {
    const x = xOfLevel(levels(index), width)
    const y = yOfHz(hz, props.frequency, height)
    if (index && drawn(index - 1)) context.lineTo(x, y)
    else context.moveTo(x, y)
  })
}

const before = (index: number) => props.spectrum?.level_db[index] ?? LEVEL_LOW_DB
const after = (index: number) => before(index) + (props.response[index] ?? 0)

function paint() {
  const surface = canvas.value && surfaceOf(canvas.value)
  if (!surface || !canvas.value) return
  const c = colours(canvas.value)
  paintScale(surface, c.line)
  if (props.behind) paintBehind(surface, c.slate)
  for (const probe of [...(props.heldProbes ?? []), ...(props.probe ? [props.probe] : [])])
    paintProbe(surface, probe, c.ochre, c.ochreFill)
  if (props.live) paintLive(surface, c.ink)
  if (props.peaks) paintPeaks(surface, props.peaks, c.ink)
  if (props.spectrum?.often_db) paintRange(surface, c.ink)
  if (props.spectrum) paintAverage(surface, c)
  paintSuspects(surface, c.vermilion)
  paintFigures(surface, c.soft, c.paper)
}

/**
 * Between what is nearly always there and what is there only now and then: pale ink; what is ever there: a hair line.
 */
function paintRange(surface: Surface, ink: string) {
  const { context, width, height } = surface
  context.beginPath()
  props.hz.forEach((hz, index) =>
    context.lineTo(
      xOfLevel(props.spectrum?.often_db?.[index] ?? LEVEL_LOW_DB, width),
      yOfHz(hz, props.frequency, height),
    ),
  )
  for (let index = props.hz.length - 1; index >= 0; index--) {
    context.lineTo(
      xOfLevel(props.spectrum?.seldom_db?.[index] ?? LEVEL_LOW_DB, width),
      yOfHz(props.hz[index] ?? 20, props.frequency, height),
    )
  }
  context.fillStyle = ink
  context.globalAlpha = 0.09
  context.fill()
  context.strokeStyle = ink
  context.globalAlpha = 0.4
  context.lineWidth = 0.7
  trace(surface, (index) => props.spectrum?.highest_db?.[index] ?? LEVEL_LOW_DB)
  context.stroke()
  context.globalAlpha = 1
}

/** Another track in slate; hatched where it is the louder one. */
function paintBehind(surface: Surface, slate: string) {
  const { context, width, height } = surface
  const other = (index: number) => props.behind?.[index] ?? LEVEL_LOW_DB
  context.beginPath()
  props.hz.forEach((hz, index) =>
    context.lineTo(xOfLevel(Math.max(other(index), before(index)), width), yOfHz(hz, props.frequency, height)),
  )
  for (let index = props.hz.length - 1; index >= 0; index--)
    context.lineTo(xOfLevel(before(index), width), yOfHz(props.hz[index] ?? 20, props.frequency, height))
  context.fillStyle = hatching(context, slate)
  context.fill()
  trace(surface, other)
  context.strokeStyle = slate
  context.lineWidth = 1.2
  context.stroke()
}

function paintPeaks(surface: Surface, peaks: readonly number[], ink: string) {
  surface.context.strokeStyle = ink
  surface.context.globalAlpha = 0.55
  surface.context.lineWidth = 1
  trace(surface, (index) => peaks[index] ?? LEVEL_LOW_DB)
  surface.context.stroke()
  surface.context.globalAlpha = 1
}

/**
 * The average over the loop: its near outline dotted, the far one in long dashes, what is taken away in green, before
 * in ink.
 */
function paintAverage(surface: Surface, c: ReturnType<typeof colours>) {
  const { context } = surface
  context.strokeStyle = c.soft
  context.lineWidth = 1
  paintOutline(surface, props.spectrum?.outline_db, [2, 3])
  paintOutline(surface, props.spectrum?.far_outline_db, [9, 5])
  if (props.response.some((db) => Math.abs(db) > HARDLY_DB)) paintTaken(surface, c.green)
  context.strokeStyle = c.ink
  context.lineWidth = 1.2
  trace(surface, before)
  context.stroke()
}

function paintOutline(surface: Surface, outline: readonly number[] | undefined, dashes: number[]) {
  if (!outline) return
  surface.context.setLineDash(dashes)
  trace(surface, (index) => outline[index] ?? LEVEL_LOW_DB)
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

function paintLive(surface: Surface, ink: string) {
  const { context, height } = surface
  context.fillStyle = ink
  context.globalAlpha = 0.16
  trace(surface, (index) => props.live?.[index] ?? LEVEL_LOW_DB)
  context.lineTo(0, 0)
  context.lineTo(0, height)
  context.fill()
  context.globalAlpha = 1
}

function paintTaken(surface: Surface, green: string) {
  const { context, width, height } = surface
  context.beginPath()
  props.hz.forEach((hz, index) => context.lineTo(xOfLevel(before(index), width), yOfHz(hz, props.frequency, height)))
  for (let index = props.hz.length - 1; index >= 0; index--) {
    context.lineTo(xOfLevel(after(index), width), yOfHz(props.hz[index] ?? 20, props.frequency, height))
  }
  context.globalAlpha = 0.22
  context.fillStyle = green
  context.fill()
  context.globalAlpha = 1
  context.fillStyle = hatching(context, green)
  context.fill()
  const { full } = props
  if (full) {
    context.strokeStyle = green
    context.lineWidth = 1
    context.setLineDash([5, 3])
    trace(
      surface,
      (index) => before(index) + (full[index] ?? 0),
      (index) => Math.abs(full[index] ?? 0) > HARDLY_DB,
    )
    context.stroke()
    context.setLineDash([])
  }
  context.strokeStyle = green
  context.lineWidth = 2
  trace(surface, after, (index) => Math.abs(props.response[index] ?? 0) > HARDLY_DB)
  context.stroke()
}

onMounted(() => {
  if (canvas.value) stop = onRepaint(canvas.value, paint)
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
  ],
  paint,
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
