/** Draws the sheet: few curves are stroked, many are written as pixel columns. */
import {
  axisOf,
  type ChannelKey,
  type Curve,
  MUTED,
  onFrames,
  RIDING,
  readoutUnit,
  turns,
  valueAt,
} from '../evaluation/curves'
import { type Box, band, columns, ticks, timeToX, type View, valueToY } from '../ui/geometry'
import { token } from '../ui/theme'
import type { Picked } from '../view/selection'

import type { HandlePlace } from './surface'

export const GUTTER = 58
export const RULER = 20
/** Room above the curves for the read-out. */
const HEAD = 24
const MANY = 24
const FEW_KEYS = 4 // pixels a key
const KEY_ROOM = 7 // pixels between keys from which each is drawn

/** What says where a channel stands: enough to find what is under the pointer. */
export interface Places {
  view: View
  bands: boolean
  frames: number
  channels: readonly ChannelKey[]
  curves: ReadonlyMap<ChannelKey, Curve>
  /** Drawn pale behind: what stood before. */
  before: ReadonlyMap<ChannelKey, Curve>
}

export interface Drawing extends Places {
  unit: (key: ChannelKey) => string
  /** Laid over, to be matched. */
  guide: readonly Curve[]
  selected: Picked
  muted: ReadonlySet<ChannelKey>
  /** Ends of the handles that are shown. */
  handles: readonly HandlePlace[]
}

/** Samples of keyed curves on frames, made once a curve. */
const sampled = new WeakMap<Curve, Float64Array>()
export function samples(curve: Curve, frames: number): Float64Array {
  let found = sampled.get(curve)
  if (!found) {
    found = onFrames(curve, frames)
    sampled.set(curve, found)
  }
  return found
}

export function field(width: number, height: number): Box {
  return { left: GUTTER, top: HEAD, width: width - GUTTER - 18, height: height - HEAD - RULER - 4 }
}

/** The view and box a channel is drawn with: its own band, or the common scale. */
export function placeOf(drawing: Places, box: Box, key: ChannelKey): { view: View; box: Box } {
  if (!drawing.bands) return { view: drawing.view, box }
  const index = drawing.channels.indexOf(key)
  const own = band(box, index, drawing.channels.length)
  const [low, high] = extent(drawing, key)
  return { view: { ...drawing.view, v0: low, v1: high }, box: own }
}

function extent(drawing: Places, key: ChannelKey): [number, number] {
  // While it is dragged a band keeps the scale that it had.
  const curve = drawing.before.get(key) ?? drawing.curves.get(key)
  if (!curve) return [-1, 1]
  const values = samples(curve, drawing.frames)
  let low = Number.POSITIVE_INFINITY
  let high = Number.NEGATIVE_INFINITY
  const from = Math.max(0, Math.floor(drawing.view.t0))
  const to = Math.min(values.length - 1, Math.ceil(drawing.view.t1))
  for (let i = from; i <= to; i++) {
    low = Math.min(low, values[i]!)
    high = Math.max(high, values[i]!)
  }
  const room = Math.max((high - low) * 0.08, 0.25)
  return [low - room, high + room]
}

export function paint(g: CanvasRenderingContext2D, w: number, h: number, drawing: Drawing): void {
  const box = field(w, h)
  g.clearRect(0, 0, w, h)
  rules(g, box, drawing)
  g.save()
  g.beginPath()
  g.rect(box.left, 0, w - box.left, h)
  g.clip()
  if (drawing.channels.length > MANY && !drawing.bands) raster(g, box, drawing)
  else {
    for (const key of drawing.channels) {
      const old = drawing.before.get(key)
      if (old) stroke(g, box, drawing, key, old, token('ghost'), 4, 0.4)
    }
    for (const key of drawing.channels) {
      const curve = drawing.curves.get(key)
      if (!curve) continue
      const colour = token(axisOf(key))
      const faint = drawing.muted.has(key) ? 0.3 : 1
      stroke(g, box, drawing, key, curve, colour, 1.5, faint)
      keys(g, box, drawing, key, curve, colour)
    }
    const first = drawing.channels[0]
    if (first)
      for (const curve of drawing.guide)
        stroke(g, box, drawing, first, curve, token('ink-2'), 1.25, 1, [1, 4])
    handles(g, box, drawing)
  }
  g.restore()
  letters(g, box, drawing)
}

function rules(g: CanvasRenderingContext2D, box: Box, drawing: Drawing): void {
  const { view } = drawing
  g.font = '10.5px "IBM Plex Mono"'
  g.lineWidth = 1
  g.textBaseline = 'middle'
  const rule = token('rule')
  const pale = token('ink-3')
  g.textAlign = 'center'
  for (const t of ticks(view.t0, view.t1, box.width / 70, true)) {
    const x = Math.round(timeToX(view, box, t)) + 0.5
    g.strokeStyle = rule
    line(g, x, box.top, x, box.top + box.height)
    g.fillStyle = pale
    g.fillText(String(t), x, box.top + box.height + 12)
  }
  g.textAlign = 'right'
  const bands = drawing.bands ? drawing.channels : [null]
  for (const key of bands) {
    const place = key === null ? { view, box } : placeOf(drawing, box, key)
    const units = [...new Set((key === null ? drawing.channels : [key]).map(drawing.unit))]
    // Degrees and lengths on one scale: the numbers are bare, and the corner says of what.
    const unit = units.length === 1 ? units[0]! : ''
    if (units.length > 1) {
      g.fillStyle = pale
      g.fillText(units.map((u) => u.trim()).join(', '), box.left - 5, box.top + box.height + 12)
    }
    const list = ticks(place.view.v0, place.view.v1, place.box.height / 28)
    const digits = Math.max(0, -Math.floor(Math.log10((list[1] ?? 1) - (list[0] ?? 0) || 1)))
    for (const v of list) {
      const y = Math.round(valueToY(place.view, place.box, v)) + 0.5
      g.strokeStyle = rule
      line(g, box.left, y, box.left + box.width, y)
      g.fillStyle = pale
      g.fillText(`${v.toFixed(digits)}${unit}`, box.left - 5, y)
    }
    if (key !== null) {
      g.strokeStyle = token('rule-2')
      const y = Math.round(place.box.top + place.box.height) + 1.5
      line(g, 0, y, box.left + box.width, y)
    }
  }
}

function line(g: CanvasRenderingContext2D, x0: number, y0: number, x1: number, y1: number): void {
  g.beginPath()
  g.moveTo(x0, y0)
  g.lineTo(x1, y1)
  g.stroke()
}

/** Pixels a frame down to which each sample is drawn; below, the extremes of a pixel's column. */
const SAMPLES_DRAWN = 0.25

function stroke(
  g: CanvasRenderingContext2D,
  whole: Box,
  drawing: Drawing,
  key: ChannelKey,
  curve: Curve,
  colour: string,
  width: number,
  alpha: number,
  dash?: number[],
): void {
  const { view, box } = placeOf(drawing, whole, key)
  g.strokeStyle = colour
  g.globalAlpha = alpha
  g.lineWidth = width
  g.setLineDash(dash ?? (turns(key) ? [] : readoutUnit(key) ? [2, 3] : [9, 4]))
  g.beginPath()
  const perFrame = box.width / (view.t1 - view.t0)
  // Few keys are evaluated at each pixel: no saw teeth where frames fall between them.
  const few = curve.kind === 'keyed' && FEW_KEYS * curve.time.length < box.width
  if (perFrame > 1.5 || few) {
    const from = Math.max(view.t0, 0)
    const to = Math.min(view.t1, drawing.frames - 1)
    const step = curve.kind === 'sampled' ? 1 : 1 / perFrame
    const start = curve.kind === 'sampled' ? Math.floor(from) : from
    for (let t = start; ; t += step) {
      const at = Math.min(t, Math.ceil(to))
      g.lineTo(timeToX(view, box, at), valueToY(view, box, valueAt(curve, at)))
      if (t >= to) break
    }
  } else if (perFrame > SAMPLES_DRAWN) {
    // A line from sample to sample: steep ones are slanted, whatever pixel they pass.
    const values = samples(curve, drawing.frames)
    const last = Math.min(values.length - 1, Math.ceil(view.t1))
    for (let i = Math.max(0, Math.floor(view.t0)); i <= last; i++)
      g.lineTo(timeToX(view, box, i), valueToY(view, box, values[i]!))
  } else {
    const count = Math.ceil(box.width)
    const range = new Float64Array(2 * count)
    columns(samples(curve, drawing.frames), view.t0, view.t1, count, range)
    let last = Number.NaN
    for (let c = 0; c < count; c++) {
      const low = range[2 * c]!
      if (Number.isNaN(low)) continue
      const x = box.left + c + 0.5
      const bottom = valueToY(view, box, low)
      const top = valueToY(view, box, range[2 * c + 1]!)
      if (bottom - top < 4) {
        last = (top + bottom) / 2
        g.lineTo(x, last)
        continue
      }
      // The nearer end first, so that the line does not run back on itself.
      const down = Math.abs(top - last) < Math.abs(bottom - last)
      g.lineTo(x - 0.5, down ? top : bottom)
      last = down ? bottom : top
      g.lineTo(x + 0.5, last)
    }
  }
  g.stroke()
  g.setLineDash([])
  g.globalAlpha = 1
}

function keys(
  g: CanvasRenderingContext2D,
  whole: Box,
  drawing: Drawing,
  key: ChannelKey,
  curve: Curve,
  colour: string,
): void {
  if (curve.kind === 'sampled') return
  const { view, box } = placeOf(drawing, whole, key)
  const spacing = (box.width / (view.t1 - view.t0)) * (drawing.frames / curve.time.length)
  g.fillStyle = token('paper')
  g.strokeStyle = colour
  g.lineWidth = 1.5
  const size = spacing > 2 * KEY_ROOM ? 3.4 : spacing > KEY_ROOM ? 2.4 : 1.4
  const chosen = drawing.selected.get(key)
  // One path for all that look alike: circles drawn one by one cost more than the curves.
  const plain = new Path2D()
  const picked = new Path2D()
  const muted = new Path2D()
  const between = new Path2D()
  for (let k = 0; k < curve.time.length; k++) {
    const x = timeToX(view, box, curve.time[k]!)
    if (x < box.left - 4 || x > box.left + box.width + 4) continue
    const y = valueToY(view, box, curve.value[k]!)
    const flags = curve.flags[k]!
    const on = chosen?.has(Number(curve.id[k]))
    const path = on ? picked : flags & MUTED ? muted : plain
    circle(path, x, y, on ? size + 1.2 : size)
    if (flags & RIDING) {
      path.moveTo(x - 8, y)
      path.lineTo(x + 8, y)
    }
    // A key between two frames is shown as one: it bends the curve where nobody looks.
    else if (Math.abs(curve.time[k]! - Math.round(curve.time[k]!)) > 1e-6)
      circle(between, x, y, size + 4)
  }
  for (const [path, fill] of [
    [plain, 'paper'],
    [picked, 'ink'],
  ] as const) {
    g.fillStyle = token(fill)
    g.fill(path)
    g.stroke(path)
  }
  g.setLineDash([1.5, 2])
  g.stroke(muted)
  g.stroke(between)
  g.setLineDash([])
}

function circle(path: Path2D, x: number, y: number, radius: number): void {
  path.moveTo(x + radius, y)
  path.arc(x, y, radius, 0, 7)
}

/** Handles of selected keys: thin lines to square ends, as long as they are. */
function handles(g: CanvasRenderingContext2D, whole: Box, drawing: Drawing): void {
  g.strokeStyle = token('ink-2')
  g.fillStyle = token('raised')
  g.lineWidth = 1
  for (const { channel, index, x, y } of drawing.handles) {
    const curve = drawing.curves.get(channel)
    if (curve?.kind !== 'keyed') continue
    const { view, box } = placeOf(drawing, whole, channel)
    const from = [
      timeToX(view, box, curve.time[index]!),
      valueToY(view, box, curve.value[index]!),
    ] as const
    line(g, from[0], from[1], x, y)
    g.fillRect(x - 3, y - 3, 6, 6)
    g.strokeRect(x - 3, y - 3, 6, 6)
  }
}

let kept: { image: ImageData; layer: OffscreenCanvas } | null = null

/** An image and a canvas of that size, made again only when the size changes. */
function canvasOf(width: number, height: number) {
  if (kept?.image.width !== width || kept.image.height !== height)
    kept = { image: new ImageData(width, height), layer: new OffscreenCanvas(width, height) }
  return kept
}

/** The many: one pixel column a curve and column, straight into an image. */
function raster(g: CanvasRenderingContext2D, box: Box, drawing: Drawing): void {
  const scale = g.getTransform().a
  const width = Math.floor(box.width * scale)
  const height = Math.floor(box.height * scale)
  if (width < 1 || height < 1) return
  const { image, layer } = canvasOf(width, height)
  const pixels = new Uint32Array(image.data.buffer)
  pixels.fill(0)
  const range = new Float64Array(2 * width)
  const { v0, v1, t0, t1 } = drawing.view
  const perValue = height / (v1 - v0)
  for (const key of drawing.channels) {
    const curve = drawing.curves.get(key)
    if (!curve) continue
    const colour = packed(token(axisOf(key)))
    columns(samples(curve, drawing.frames), t0, t1, width, range)
    for (let c = 0; c < width; c++) {
      const low = range[2 * c]!
      if (Number.isNaN(low)) continue
      const bottom = Math.min(height - 1, Math.round(height - (low - v0) * perValue))
      const top = Math.max(0, Math.round(height - (range[2 * c + 1]! - v0) * perValue))
      for (let y = top; y <= bottom; y++) pixels[y * width + c] = colour
    }
  }
  layer.getContext('2d')!.putImageData(image, 0, 0)
  g.drawImage(layer, box.left, box.top, box.width, box.height)
}

function packed(hex: string): number {
  const n = Number.parseInt(hex.slice(1), 16)
  return (255 << 24) | ((n & 255) << 16) | (n & 0xff00) | (n >> 16)
}

/** Each curve carries its axis letter at its end; colour never tells alone. */
function letters(g: CanvasRenderingContext2D, whole: Box, drawing: Drawing): void {
  if (drawing.channels.length > MANY && !drawing.bands) return
  g.font = '600 11px "IBM Plex Mono"'
  g.textAlign = 'left'
  g.textBaseline = 'middle'
  const taken: number[] = []
  for (const key of drawing.channels) {
    const curve = drawing.curves.get(key)
    if (!curve) continue
    const { view, box } = placeOf(drawing, whole, key)
    const end = Math.min(view.t1, drawing.frames - 1)
    let y = valueToY(view, box, valueAt(curve, end))
    y = Math.min(Math.max(y, box.top + 6), box.top + box.height - 6)
    while (taken.some((t) => Math.abs(t - y) < 11)) y += 11
    taken.push(y)
    g.fillStyle = token(axisOf(key))
    const x = Math.min(timeToX(view, box, end), whole.left + whole.width) + 5
    g.fillText(axisOf(key).toUpperCase(), x, y)
  }
}
