/** Small helpers for painting. */
import { frequencyTicks, yOfHz, type FrequencyView } from './axis'

export interface Surface {
  readonly context: CanvasRenderingContext2D
  readonly width: number
  readonly height: number
}

/** Fit a canvas to its box at the screen's density and clear it. */
export function surfaceOf(canvas: HTMLCanvasElement): Surface | null {
  const context = canvas.getContext('2d')
  const { clientWidth: width, clientHeight: height } = canvas
  if (!context || !width || !height) return null
  const density = window.devicePixelRatio || 1
  if (canvas.width !== Math.round(width * density) || canvas.height !== Math.round(height * density)) {
    canvas.width = Math.round(width * density)
    canvas.height = Math.round(height * density)
  }
  context.setTransform(density, 0, 0, density, 0, 0)
  context.clearRect(0, 0, width, height)
  return { context, width, height }
}

/** The theme's colours, read from the style sheet so that both themes have one home. */
export function colours(element: Element) {
  const style = getComputedStyle(element)
  const of = (name: string) => style.getPropertyValue(`--${name}`).trim()
  return {
    paper: of('paper'),
    ink: of('ink'),
    soft: of('ink-soft'),
    line: of('line'),
    green: of('green'),
    ochre: of('ochre'),
    ochreFill: of('ochre-fill'),
    slate: of('slate'),
    vermilion: of('vermilion'),
  }
}

/** The lines of the shared frequency axis across a lane. */
export function paintFrequencyLines({ context, width, height }: Surface, view: FrequencyView, colour: string) {
  context.strokeStyle = colour
  context.lineWidth = 1
  context.beginPath()
  for (const hz of frequencyTicks(view)) {
    const y = Math.round(yOfHz(hz, view, height)) + 0.5
    context.moveTo(0, y)
    context.lineTo(width, y)
  }
  context.stroke()
}

const patterns = new Map<string, CanvasPattern>()

/** A pattern of slanted lines, so that an area reads without its colour. */
export function hatching(context: CanvasRenderingContext2D, colour: string): CanvasPattern | string {
  const known = patterns.get(colour)
  if (known) return known
  const tile = document.createElement('canvas')
  tile.width = tile.height = 6
  const pen = tile.getContext('2d')
  if (!pen) return colour
  pen.strokeStyle = colour
  pen.lineWidth = 1.3
  pen.beginPath()
  for (const shift of [-6, 0, 6]) {
    pen.moveTo(shift, 6)
    pen.lineTo(shift + 6, 0)
  }
  pen.stroke()
  const made = context.createPattern(tile, 'repeat')
  if (made) patterns.set(colour, made)
  return made ?? colour
}

/** Return what lets whatever changes until the next frame of the screen be painted at once. */
export function oncePerFrame(paint: () => void): () => void {
  let asked = false
  return () => {
    if (asked) return
    asked = true
    requestAnimationFrame(() => {
      asked = false
      paint()
    })
  }
}

/** Call back when an element's size changes or the theme is switched; returns what undoes it. */
export function onRepaint(element: Element, paint: () => void): () => void {
  const resized = new ResizeObserver(paint)
  resized.observe(element)
  const themed = new MutationObserver(paint)
  themed.observe(document.documentElement, { attributes: true, attributeFilter: ['data-theme'] })
  return () => {
    resized.disconnect()
    themed.disconnect()
  }
}
