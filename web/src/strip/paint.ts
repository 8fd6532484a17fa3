/** How the strip's lanes, pins and ruler are drawn. */
import { sameContact } from '../actions/contacts'
import { usePins } from '../actions/pins'
import { samePlant } from '../actions/plants'
import type { Contact, Finding, Mark, Plant } from '../evaluation/model'
import { ticks } from '../ui/geometry'
import { token } from '../ui/theme'
import { useBench } from '../view/bench'
import { transport } from '../view/transport'
import { LANE_HEIGHT, type Lane, LEFT, type PartBar, RULER } from './lanes'

export interface Span {
  first: number
  last: number
}

/** What a picture of the strip is made of. */
export interface Picture {
  g: CanvasRenderingContext2D
  /** Of the lanes, in pixels. */
  width: number
  /** The last frame that is shown. */
  end: number
  lanes: readonly Lane[]
  x: (frame: number) => number
  /** Where what stands at a frame will be: elsewhere while pins are dragged. */
  xAfter: (frame: number) => number
  /** Times of the selection's keys, and the stretch that is selected among them. */
  keys: readonly number[]
  stretch: readonly [number, number] | null
  /** What is dragged: where it was, and is now. */
  dragged: { from: Span; now: Span } | null
  /** The plant whose ramp is dragged, and on which side. */
  eased: { plant: Plant; side: 'in' | 'out' } | null
  /** The clip of a join that is trimmed: at which end, and by how many frames. */
  trimmed: { bar: PartBar; end: 'first' | 'last'; by: number } | null
}

export function paintLane(p: Picture, lane: Lane, y: number): void {
  const { g } = p
  const middle = y + LANE_HEIGHT / 2
  g.fillStyle = token('rule')
  g.fillRect(LEFT, middle, p.width, 1)
  g.font = '10.5px "IBM Plex Sans"'
  g.textAlign = 'left'
  g.textBaseline = 'middle'
  g.fillStyle = token('ink-3')
  g.fillText(lane.label, LEFT + p.width + 9, middle)
  if (lane.kind === 'contact') {
    const half = lane.lower.length ? LANE_HEIGHT / 2 - 1 : LANE_HEIGHT - 3
    for (const c of lane.upper) bar(p, c, y + 1, half)
    for (const c of lane.lower) bar(p, c, y + LANE_HEIGHT / 2, half)
  } else if (lane.kind === 'plant') {
    const half = lane.lower.length ? LANE_HEIGHT / 2 - 1 : LANE_HEIGHT - 3
    for (const plant of lane.upper) ramped(p, plant, y + 1, half)
    for (const plant of lane.lower) ramped(p, plant, y + LANE_HEIGHT / 2, half)
  } else if (lane.kind === 'parts') {
    for (const part of lane.bars) partBar(p, part, y)
  } else if (lane.kind === 'finding') {
    for (const f of lane.findings) mark(p, f, y)
  } else if (lane.kind === 'marks') {
    for (const m of lane.marks) named(p, m, y)
  } else if (lane.kind === 'drift') {
    hill(p, lane.moved.mended, lane.most, y, true)
    hill(p, lane.moved.rest, lane.most, y, false)
  } else if (lane.kind === 'keys') keysLane(p, y)
}

/** The keys of the selected joints; over the selected stretch a bar with firm ends. */
function keysLane(p: Picture, y: number): void {
  const { g } = p
  const stretch = p.stretch
  if (stretch) {
    const [a, b] = stretch.map((t) => p.x(t)) as [number, number]
    g.fillStyle = token('calm')
    g.globalAlpha = 0.25
    g.fillRect(a - 2, y, b - a + 4, LANE_HEIGHT)
    g.globalAlpha = 1
    g.fillStyle = token('ink')
    for (const x of [a - 2.5, b + 1]) g.fillRect(x, y, 1.5, LANE_HEIGHT)
  }
  g.fillStyle = token('calm')
  for (const k of p.keys) g.fillRect(p.xAfter(k) - 0.5, y + 2, 1, LANE_HEIGHT - 4)
}

/** Pins: a head in their lane, a line through all others, and a thread to where they were. */
export function paintPins(p: Picture, h: number): void {
  const { g } = p
  const n = p.lanes.findIndex((lane) => lane.kind === 'pins')
  const { pins } = usePins.getState()
  if (n < 0 || !pins) return
  const middle = RULER + 2 + n * LANE_HEIGHT + LANE_HEIGHT / 2
  pins.forEach((pin, k) => {
    const [from, to] = [p.x(pin.from), p.x(pin.to)]
    g.strokeStyle = token('ink-3')
    g.lineWidth = 1
    g.beginPath()
    g.moveTo(from, middle - 3)
    g.lineTo(from, middle + 3)
    g.moveTo(from, middle)
    g.lineTo(to, middle)
    g.stroke()
    g.setLineDash([2, 2])
    g.beginPath()
    g.moveTo(to, RULER)
    g.lineTo(to, h)
    g.stroke()
    g.setLineDash([])
    // The first one stays: it is a bar, the others are knobs to be taken.
    g.fillStyle = token('ink')
    g.beginPath()
    if (k === 0) g.rect(to - 1.5, middle - 5, 3, 10)
    else g.arc(to, middle, 5, 0, 7)
    g.fill()
  })
}

/** A contact: a bar, its ends drawn firm, since they are what is dragged. */
function bar(p: Picture, contact: Contact, y: number, height: number): void {
  const { g } = p
  const held = p.dragged?.from === contact
  const shown = held ? p.dragged!.now : contact
  const chosen = held || sameContact(useBench.getState().contact, contact)
  const x = p.xAfter(shown.first)
  const width = Math.max(2, p.xAfter(shown.last) - x)
  g.fillStyle = token(chosen ? 'signal' : 'calm')
  g.globalAlpha = chosen ? 0.75 : 0.4
  g.fillRect(x, y, width, height)
  g.globalAlpha = 1
  g.fillRect(x, y, 1.5, height)
  g.fillRect(x + width - 1.5, y, 1.5, height)
}

/** A clip of a join: slanted where it blends with those beside it. */
function partBar(p: Picture, part: PartBar, y: number): void {
  const { g } = p
  const half = LANE_HEIGHT / 2
  const top = part.upper ? y : y + half
  const held = p.trimmed?.bar === part ? p.trimmed : null
  const [early, late] = (['first', 'last'] as const).map((end) =>
    held?.end === end ? part[end] + held.by : part[end],
  ) as [number, number]
  const [a, b, c, d] = [early, early + part.into, late - part.out, late].map((f) =>
    p.xAfter(f),
  ) as [number, number, number, number]
  g.fillStyle = token('calm')
  g.globalAlpha = held ? 0.85 : 0.45
  g.beginPath()
  // Seen from its own side: what comes in rises towards the lane's middle.
  const [inner, outer] = part.upper ? [top + half, top] : [top, top + half - 1]
  g.moveTo(a, inner)
  g.lineTo(part.into ? b : a, outer)
  g.lineTo(part.out ? c : d, outer)
  g.lineTo(d, inner)
  g.closePath()
  g.fill()
  g.globalAlpha = 1
}

/** A plant: a solid bar between the ramps over which it comes and goes; muted, its outline. */
function ramped(p: Picture, plant: Plant, y: number, height: number): void {
  const { g } = p
  const held = p.dragged?.from === plant
  const shown = held ? p.dragged!.now : plant
  const eased = p.eased?.plant === plant ? p.eased.side : null
  const at = p.dragged?.now.first ?? 0
  const coming = eased === 'in' ? at : shown.first - plant.ease_in
  const going = eased === 'out' ? at : shown.last + plant.ease_out
  const [a, b, c, d] = [coming, shown.first, shown.last, going].map((f) =>
    p.xAfter(Math.min(Math.max(f, 0), p.end)),
  ) as [number, number, number, number]
  const chosen = held || eased !== null || samePlant(useBench.getState().plant, plant)
  g.fillStyle = g.strokeStyle = token(chosen ? 'signal' : 'ink')
  g.beginPath()
  g.moveTo(a, y + height)
  g.lineTo(b, y)
  g.lineTo(Math.max(c, b + 1.5), y)
  g.lineTo(Math.max(d, b + 1.5), y + height)
  g.closePath()
  g.globalAlpha = plant.muted ? 0.6 : 0.8 * Math.max(0.25, plant.strength)
  g.lineWidth = 1
  if (plant.muted) g.stroke()
  else g.fill()
  g.globalAlpha = 1
}

/** A mark: a flag at its first frame with its name, a line to its last. */
function named(p: Picture, mark: Mark, y: number): void {
  const { g } = p
  const shown = p.dragged?.from === mark ? p.dragged.now : mark
  const x = p.xAfter(shown.first)
  g.fillStyle = token('ink')
  if (shown.last > shown.first) g.fillRect(x, y + LANE_HEIGHT - 3, p.xAfter(shown.last) - x, 2)
  g.beginPath()
  g.moveTo(x - 0.75, y)
  g.lineTo(x + 6, y + 3)
  g.lineTo(x + 0.75, y + 6)
  g.lineTo(x + 0.75, y + LANE_HEIGHT)
  g.lineTo(x - 0.75, y + LANE_HEIGHT)
  g.fill()
  g.font = '10px "IBM Plex Sans"'
  g.textAlign = 'left'
  g.textBaseline = 'middle'
  g.fillText(mark.name, x + 9, y + LANE_HEIGHT / 2 - 0.5)
}

/** Drift: filled from the lane's foot up, the worst of each pixel's frames. */
function hill(p: Picture, mm: Float32Array, most: number, y: number, hatched: boolean): void {
  const { g } = p
  g.fillStyle = token(hatched ? 'calm' : 'warn')
  const per = (transport.frames - 1) / Math.max(1, p.width)
  for (let px = 0; px < p.width; px += hatched ? 3 : 1) {
    let worst = 0
    const last = Math.min(mm.length - 1, Math.ceil((px + 1) * per))
    for (let f = Math.floor(px * per); f <= last; f++) worst = Math.max(worst, mm[f]!)
    const height = (worst / most) * (LANE_HEIGHT - 2)
    g.fillRect(LEFT + px, y + LANE_HEIGHT - 1 - height, 1, height)
  }
}

/** A finding: a span by its severity; what is meant is an outline. */
function mark(p: Picture, f: Finding, y: number): void {
  const { g } = p
  const x = p.xAfter(f.first)
  const width = Math.max(2.5, p.xAfter(f.last) - x)
  const left = f.last === f.first ? x - 1.25 : x
  if (f.accepted) {
    g.strokeStyle = token('rule-2')
    g.strokeRect(left + 0.5, y + 2.5, width, LANE_HEIGHT - 5)
    return
  }
  g.fillStyle = token(f.severity > 0.5 ? 'bad' : 'warn')
  g.globalAlpha = 0.45 + 0.55 * f.severity
  g.fillRect(left, y + 1.5, width, LANE_HEIGHT - 3)
  g.globalAlpha = 1
}

export function paintRuler(p: Picture, first: number, last: number): void {
  const { g } = p
  g.font = '10.5px "IBM Plex Mono"'
  g.textAlign = 'center'
  g.textBaseline = 'middle'
  g.fillStyle = token('ink-3')
  g.strokeStyle = token('rule-2')
  const { end } = p
  for (const t of ticks(0, end, p.width / 90, true)) {
    g.beginPath()
    g.moveTo(p.x(t), RULER - 3)
    g.lineTo(p.x(t), RULER)
    g.stroke()
    const held = [first, last].some((f) => Math.abs(p.x(f) - p.x(t)) < 18)
    if (!held) g.fillText(String(t), p.x(t), 7)
  }
  g.fillStyle = token('ink')
  for (const [frame, side] of [
    [first, 1],
    [last, -1],
  ] as const) {
    const x = p.x(frame)
    g.beginPath()
    g.moveTo(x, 2)
    g.lineTo(x + 5 * side, 2)
    g.lineTo(x + 5 * side, RULER - 5)
    g.lineTo(x, RULER)
    g.fill()
  }
}
