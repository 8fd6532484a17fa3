/** Draws the timing sheet. A key is a peg: as tall as the share of its row's channels that have
 * one there. A peg on whiskers rides, a dashed one is muted, what is hidden trouble is ringed. */

import { type Box, ticks, timeToX, type View } from '../ui/geometry'
import { token } from '../ui/theme'
import { transport } from '../view/transport'
import {
  DOUBLED,
  HELD,
  IS_MUTED,
  OFF_FRAME,
  RIDES,
  type Row,
  SELECTED,
  STRAIGHT,
  SWINGS,
  type Union,
} from './rows'
import { ROW, RULER } from './surface'

export interface Painted {
  view: View
  box: Box
  rows: { row: Row; y: number; union: Union }[]
  isDense: (row: Row) => boolean
  /** First and last time of the selected keys. */
  selected: [number, number] | null
  drawnBox: Box | null
}

const TALL = 13
const SHORT = 5
const WIDE = 5
/** Pixels between keys below which they are drawn as bare lines. */
const CROWDED = 4

export function paint(g: CanvasRenderingContext2D, w: number, h: number, p: Painted): void {
  g.clearRect(0, 0, w, h)
  background(g, w, h, p)
  for (const { row, y, union } of p.rows) {
    if (union.keyed === 0) {
      if (p.isDense(row)) dense(g, p, y)
      continue
    }
    between(g, p, y, union)
    pegs(g, p, y, union)
  }
  ruler(g, w, p)
  now(g, h, p)
  if (p.drawnBox) {
    const b = p.drawnBox
    g.strokeStyle = token('ink')
    g.setLineDash([4, 3])
    g.strokeRect(b.left + 0.5, b.top + 0.5, b.width, b.height)
    g.setLineDash([])
  }
}

function background(g: CanvasRenderingContext2D, w: number, h: number, p: Painted): void {
  const [first, last] = transport.range
  const end = transport.frames - 1
  if (first > 0 || last < end) {
    g.fillStyle = token('sunk')
    const x = timeToX(p.view, p.box, first)
    g.fillRect(x, RULER, timeToX(p.view, p.box, last) - x, h)
  }
  g.strokeStyle = token('rule')
  g.lineWidth = 1
  g.beginPath()
  for (const t of ticks(p.view.t0, p.view.t1, p.box.width / 70, true)) {
    const x = Math.round(timeToX(p.view, p.box, t)) + 0.5
    g.moveTo(x, RULER)
    g.lineTo(x, h)
  }
  for (const { y } of p.rows) {
    g.moveTo(0, Math.round(y + ROW / 2) - 0.5)
    g.lineTo(w, Math.round(y + ROW / 2) - 0.5)
  }
  g.stroke()
  g.strokeStyle = token('rule-2')
  g.beginPath()
  for (const { row, y } of p.rows)
    if (row.depth === 0) {
      g.moveTo(0, Math.round(y + ROW / 2) - 0.5)
      g.lineTo(w, Math.round(y + ROW / 2) - 0.5)
    }
  g.stroke()
}

/** What a segment does, where all of a row's keys agree: a bar holds, a line is straight, a wave
 * springs or bounces. */
function between(g: CanvasRenderingContext2D, p: Painted, y: number, { time, marks }: Union): void {
  const bars = new Path2D()
  const lines = new Path2D()
  for (let k = 0; k + 1 < time.length; k++) {
    if (!(marks[k]! & (HELD | STRAIGHT | SWINGS))) continue
    const a = timeToX(p.view, p.box, time[k]!)
    const b = timeToX(p.view, p.box, time[k + 1]!)
    if (b < 0 || a > p.box.left + p.box.width || b - a < CROWDED) continue
    if (marks[k]! & HELD) bars.rect(a, y - 2, b - a, 4)
    else if (marks[k]! & STRAIGHT) {
      lines.moveTo(a, y)
      lines.lineTo(b, y)
    } else {
      lines.moveTo(a, y)
      const waves = Math.max(2, Math.round((b - a) / 8))
      for (let n = 1; n <= waves; n++) {
        const side = n === waves ? 0 : n % 2 ? -3 : 3
        lines.lineTo(a + ((b - a) * n) / waves, y + side)
      }
    }
  }
  g.fillStyle = token('rule-2')
  g.fill(bars)
  g.strokeStyle = token('ink-3')
  g.lineWidth = 1
  g.stroke(lines)
}

function pegs(g: CanvasRenderingContext2D, p: Painted, y: number, union: Union): void {
  const { time, count, marks, keyed } = union
  const { view, box } = p
  const spacing = (box.width / (view.t1 - view.t0)) * ((time.at(-1)! - time[0]!) / time.length || 1)
  const crowded = spacing < CROWDED
  const muted = new Path2D()
  const whiskers = new Path2D()
  const rings = new Path2D()
  const wedges = new Path2D()
  // Rectangles on whole pixels: a path of as many would take many times as long.
  const plain: number[] = []
  const chosen: number[] = []
  for (let k = 0; k < time.length; k++) {
    const at = timeToX(view, box, time[k]!)
    if (at < box.left - WIDE || at > box.left + box.width + WIDE) continue
    const mark = marks[k]!
    const rides = (mark & RIDES) !== 0
    const share = SHORT + (TALL - SHORT) * (count[k]! / keyed)
    const half = Math.round((share * (rides ? 0.6 : 1)) / 2)
    const x = Math.round(at)
    if (mark & IS_MUTED && !(mark & SELECTED)) muted.rect(x - 2.5, y - half, WIDE, 2 * half)
    else (mark & SELECTED ? chosen : plain).push(x, half)
    if (rides) {
      whiskers.moveTo(x - 7, y)
      whiskers.lineTo(x + 7, y)
    }
    if (mark & DOUBLED) {
      rings.moveTo(x + 8, y)
      rings.arc(x, y, 8, 0, 7)
    } else if (mark & OFF_FRAME) {
      wedges.moveTo(x, y + TALL / 2 - 1)
      wedges.lineTo(x + 4, y + TALL / 2 + 5)
      wedges.lineTo(x - 4, y + TALL / 2 + 5)
    }
  }
  g.lineWidth = 1.25
  g.strokeStyle = token('ink-2')
  g.stroke(whiskers)
  const wide = crowded ? 1 : WIDE
  bars(g, plain, y, wide, 'ink-2', 0)
  if (!crowded) bars(g, plain, y, WIDE, 'raised', 1)
  bars(g, chosen, y, crowded ? 2 : WIDE + 1, 'ink', 0)
  g.setLineDash([1.5, 1.5])
  g.strokeStyle = token('ink-3')
  g.stroke(muted)
  g.setLineDash([])
  g.strokeStyle = g.fillStyle = token('bad')
  g.stroke(rings)
  g.fill(wedges)
}

/** Upright bars, each given by its middle and half of its height, drawn in by a margin. */
function bars(
  g: CanvasRenderingContext2D,
  places: readonly number[],
  y: number,
  wide: number,
  colour: string,
  margin: number,
): void {
  g.fillStyle = token(colour)
  const middle = Math.round(y)
  for (let n = 0; n < places.length; n += 2) {
    const half = places[n + 1]! - margin
    const left = places[n]! - (wide >> 1) + margin
    g.fillRect(left, middle - half, wide - 2 * margin, 2 * half)
  }
}

/** A row without keys: its channels have a value on every frame. */
function dense(g: CanvasRenderingContext2D, p: Painted, y: number): void {
  const a = Math.max(p.box.left, timeToX(p.view, p.box, 0))
  const b = Math.min(p.box.left + p.box.width, timeToX(p.view, p.box, transport.frames - 1))
  g.strokeStyle = token('rule-2')
  g.lineWidth = 5
  g.setLineDash([1, 3])
  g.beginPath()
  g.moveTo(a, y)
  g.lineTo(b, y)
  g.stroke()
  g.setLineDash([])
  g.font = '11px "IBM Plex Sans"'
  g.textAlign = 'left'
  g.textBaseline = 'middle'
  const text = 'a value on every frame: thin first'
  g.fillStyle = token('paper')
  g.fillRect(a + 6, y - 8, g.measureText(text).width + 8, 16)
  g.fillStyle = token('ink-2')
  g.fillText(text, a + 10, y + 0.5)
}

function ruler(g: CanvasRenderingContext2D, w: number, p: Painted): void {
  g.fillStyle = token('raised')
  g.fillRect(0, 0, w, RULER)
  g.font = '10.5px "IBM Plex Mono"'
  g.textAlign = 'center'
  g.textBaseline = 'middle'
  g.fillStyle = token('ink-3')
  for (const t of ticks(p.view.t0, p.view.t1, p.box.width / 70, true))
    g.fillText(String(t), timeToX(p.view, p.box, t), 8)
  if (p.selected) {
    const [a, b] = p.selected.map((t) => timeToX(p.view, p.box, t)) as [number, number]
    g.fillStyle = token('ink')
    g.fillRect(a, RULER - 6, b - a, 2)
    for (const x of [a, b]) g.fillRect(x - 2, RULER - 10, 4, 10)
  }
  g.strokeStyle = token('rule-2')
  g.lineWidth = 1
  g.beginPath()
  g.moveTo(0, RULER - 0.5)
  g.lineTo(w, RULER - 0.5)
  g.stroke()
}

function now(g: CanvasRenderingContext2D, h: number, p: Painted): void {
  const x = timeToX(p.view, p.box, transport.frame)
  if (x < 0) return
  g.fillStyle = token('signal')
  g.fillRect(x - 0.75, 0, 1.5, h)
}
