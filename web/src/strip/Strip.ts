/** The strip's canvas: ruler, range, lanes of contacts, findings and keys, now. */
import {
  type Clip,
  type Contact,
  type Finding,
  type Mark,
  type Moved,
  type Plant,
  useBench,
} from '../clip/bench'
import { moveContact, sameContact } from '../clip/contacts'
import { draft } from '../clip/draft'
import { goTo, mend, sizeOf } from '../clip/findings'
import { moveMark } from '../clip/marks'
import { addPin, usePins, warpOf } from '../clip/pins'
import { changePlant, choosePlant, samePlant } from '../clip/plants'
import { transport } from '../clip/transport'
import type { Warp } from '../clip/warp'
import { ticks } from '../sheet/geometry'
import { token } from '../ui/theme'
import { KeysHand } from './KeysHand'
import { keyFrames } from './keyFrames'
import { EDGE, type LaneHand, type Scale } from './laneHand'
import { LANE_HEIGHT, type Lane, LEFT, lanesOf, RULER } from './lanes'
import { PinsHand } from './PinsHand'

type Hold = 'none' | 'time' | 'first' | 'last' | 'free' | 'span' | 'lane'

interface Span {
  first: number
  last: number
}

const LABELS = 92

/** The bars of a lane under the pointer, of those above and those below. */
const half = <T>(lane: { upper: T[]; lower: T[] }, upper: boolean): T[] =>
  upper || !lane.lower.length ? lane.upper : lane.lower

export class Strip {
  sensitivity = 0.5
  onHandsFree: (on: boolean) => void = () => {}
  private clip: Clip | null = null
  private lanes: Lane[] = []
  private keys: number[] = []
  private dragged: {
    from: Span
    now: Span
    edge: 'first' | 'last' | 'both'
    /** Called with where it was let go, if that is elsewhere. */
    done: (first: number, last: number) => void
  } | null = null
  private size: [number, number] = [0, 0]
  private hold: Hold = 'none'
  private keysHand = new KeysHand()
  private pinsHand = new PinsHand()
  /** The lane that holds something. */
  private held: LaneHand | null = null
  private asked = false
  private startX = 0
  private startFrame = 0

  constructor(private canvas: HTMLCanvasElement) {}

  dispose(): void {
    this.handsFree(false)
  }

  /** Called with the frame where the drift lane is pressed. */
  onDrift: (frame: number) => void = () => {}

  show(
    clip: Clip,
    findings: Finding[] | null,
    contacts: Contact[] | null,
    keys: number[],
    drift: Moved | null,
    unfolded: boolean,
  ): void {
    this.clip = clip
    this.keys = keys
    const pinned = usePins.getState().pins !== null
    this.lanes = lanesOf(
      findings ?? [],
      contacts ?? [],
      drift,
      clip.marks,
      clip.plants,
      pinned,
      unfolded,
    )
    this.draw()
  }

  /** Height that all lanes need, in pixels. */
  get tall(): number {
    return RULER + 2 + this.lanes.length * LANE_HEIGHT + 3
  }

  resize(width: number, height: number): void {
    this.size = [width, height]
    this.canvas.width = Math.round(width * devicePixelRatio)
    this.canvas.height = Math.round(height * devicePixelRatio)
    this.draw()
  }

  private get width(): number {
    return this.size[0] - LEFT - LABELS
  }

  /** The last frame that the strip shows: pins may make the clip longer. */
  private get end(): number {
    const last = usePins.getState().pins?.at(-1)
    const later = last ? Math.max(last.to - last.from, 0) : 0
    return Math.max(1, transport.frames - 1 + later)
  }

  private x(frame: number): number {
    return LEFT + (frame / this.end) * this.width
  }

  private frame(x: number): number {
    return ((x - LEFT) / this.width) * this.end
  }

  private scale: Scale = { x: (frame) => this.x(frame), frame: (x) => this.frame(x) }

  /** Where what stands at a frame will be: elsewhere while pins are dragged. */
  private xAfter(frame: number): number {
    return this.x(this.warp?.to(frame) ?? frame)
  }

  private warp: Warp | null = null

  private handOf(lane: Lane): LaneHand | null {
    if (lane.kind === 'keys') return this.keysHand
    return lane.kind === 'pins' ? this.pinsHand : null
  }

  /** Frames of the selection's keys before and after now. */
  keyBeside(direction: -1 | 1): number | null {
    const now = transport.frame
    const found =
      direction > 0
        ? this.keys.find((k) => k > now + 0.5)
        : this.keys.findLast((k) => k < now - 0.5)
    return found ?? null
  }

  private local(event: PointerEvent): [number, number] {
    const box = this.canvas.getBoundingClientRect()
    return [event.clientX - box.left, event.clientY - box.top]
  }

  down(event: PointerEvent): void {
    if (event.button !== 0) return
    if (this.hold === 'free') {
      this.handsFree(false)
      return
    }
    const [x, y] = this.local(event)
    this.canvas.setPointerCapture(event.pointerId)
    transport.pause()
    if (y < RULER) {
      const [first, last] = transport.range
      if (Math.abs(x - this.x(first)) < 6) this.hold = 'first'
      else if (Math.abs(x - this.x(last)) < 6) this.hold = 'last'
    } else if (this.pick(x, y)) return
    if (this.hold === 'none') {
      this.hold = 'time'
      transport.seek(this.frame(x))
    }
  }

  private laneAt(y: number): { lane: Lane; upper: boolean } | null {
    const at = (y - RULER - 2) / LANE_HEIGHT
    const lane = this.lanes[Math.floor(at)]
    return lane && at >= 0 ? { lane, upper: at - Math.floor(at) < 0.5 } : null
  }

  /** What a lane has under the pointer: a finding leads to its place, a contact is held. */
  private pick(x: number, y: number): boolean {
    const at = this.laneAt(y)
    if (!at) return false
    const { lane, upper } = at
    const hand = this.handOf(lane)
    if (hand) {
      if (!hand.down(x, this.scale)) return false
      this.held = hand
      this.hold = 'lane'
      this.draw()
      return true
    }
    if (lane.kind === 'contact') {
      const found = this.spanAt(half(lane, upper), x)
      if (!found) return false
      useBench.setState({ contact: found, plant: null })
      this.grab(found, x, (first, last) => moveContact(found, first, last))
      return true
    }
    if (lane.kind === 'plant') return this.pickPlant(half(lane, upper), x)
    if (lane.kind === 'marks') {
      const found = this.spanAt(lane.marks, x)
      if (!found) return false
      this.grab(found, x, (first, last) => moveMark(found, first, last))
      return true
    }
    if (lane.kind === 'drift') {
      const frame = Math.round(this.frame(x))
      if (frame < 0 || frame >= lane.moved.rest.length) return false
      transport.seek(frame)
      this.onDrift(frame)
      return true
    }
    if (lane.kind !== 'finding') return false
    const found = this.findingAt(lane.findings, x)
    if (!found) return false
    if (found.accepted) goTo(found)
    else mend(found)
    return true
  }

  /** A plant is held by its bar, by an end of it, or by the far end of a ramp: its ease. */
  private pickPlant(bars: readonly Plant[], x: number): boolean {
    const near = (frame: number) => Math.abs(this.x(frame) - x) <= EDGE
    for (const plant of bars) {
      for (const [side, edge] of [
        ['in', plant.first - plant.ease_in],
        ['out', plant.last + plant.ease_out],
      ] as const) {
        // Where there is no ramp yet the bar's own end is meant.
        if (!near(edge) || edge === plant.first || edge === plant.last) continue
        choosePlant(plant)
        const done = (frame: number) => {
          const ease = Math.max(0, side === 'in' ? plant.first - frame : frame - plant.last)
          void changePlant(plant, side === 'in' ? { ease_in: ease } : { ease_out: ease })
        }
        this.grab({ first: edge, last: edge }, x, done)
        this.eased = { plant, side }
        return true
      }
    }
    const found = this.spanAt(bars, x)
    if (!found) return false
    choosePlant(found)
    this.grab(found, x, (first, last) => {
      void changePlant(found, { new_first: first, new_last: last })
    })
    return true
  }

  /** The ramp that is dragged. */
  private eased: { plant: Plant; side: 'in' | 'out' } | null = null

  /** The finding under the pointer: the nearest, of those that are as near the gravest. */
  private findingAt(findings: Finding[], x: number): Finding | null {
    let best: Finding | null = null
    let near = EDGE
    for (const finding of findings) {
      const gap = Math.max(this.x(finding.first) - x, x - this.x(finding.last), 0)
      if (gap < near || (gap === 0 && near === 0 && best && finding.severity > best.severity)) {
        near = gap
        best = finding
      }
    }
    return best
  }

  /** What is under the pointer, in words: of a finding its kind, where, and how much. */
  private titleAt(x: number, y: number): string {
    const lane = this.laneAt(y)?.lane
    if (lane?.kind !== 'finding') return ''
    const found = this.findingAt(lane.findings, x)
    if (!found) return ''
    const { kind, joint, first, last } = found
    const frames = first === last ? `frame ${first}` : `frames ${first}–${last}`
    return `${kind}: ${joint}, ${frames}, ${sizeOf(found)}`
  }

  private spanAt<T extends Span>(spans: readonly T[], x: number): T | undefined {
    return spans.find((s) => this.x(s.first) - EDGE <= x && x <= this.x(s.last) + EDGE)
  }

  private grab(from: Span, x: number, done: (first: number, last: number) => void): void {
    const nearFirst = Math.abs(this.x(from.first) - x) <= EDGE
    const nearLast = Math.abs(this.x(from.last) - x) <= EDGE
    // A point moves as a whole: it has no ends.
    const whole = from.first === from.last || (!nearFirst && !nearLast)
    this.dragged = { from, now: from, edge: whole ? 'both' : nearLast ? 'last' : 'first', done }
    this.hold = 'span'
    this.startFrame = this.frame(x)
    this.draw()
  }

  move(event: PointerEvent): void {
    const [x, y] = this.local(event)
    if (this.hold === 'time') transport.seek(this.frame(x))
    if (this.hold === 'first') transport.setRange(this.frame(x), transport.range[1])
    if (this.hold === 'last') transport.setRange(transport.range[0], this.frame(x))
    if (this.hold === 'span' && this.dragged) this.dragSpan(x)
    if (this.held) {
      this.held.move(x, this.scale)
      this.draw()
    }
    if (this.hold === 'none') {
      this.canvas.style.cursor = this.cursorAt(x, y)
      this.canvas.title = this.titleAt(x, y)
    }
  }

  private cursorAt(x: number, y: number): string {
    const at = this.laneAt(y)
    const hand = at && this.handOf(at.lane)
    if (hand) return hand.cursor(x, this.scale)
    if (at?.lane.kind === 'finding' || at?.lane.kind === 'drift') return 'pointer'
    if (at?.lane.kind === 'plant') {
      const ends = half(at.lane, at.upper).flatMap((p) => [
        p.first - p.ease_in,
        p.first,
        p.last,
        p.last + p.ease_out,
      ])
      return ends.some((f) => Math.abs(this.x(f) - x) <= EDGE) ? 'col-resize' : 'pointer'
    }
    if (at?.lane.kind !== 'contact' && at?.lane.kind !== 'marks') return ''
    const bars: Span[] = at.lane.kind === 'marks' ? at.lane.marks : half(at.lane, at.upper)
    const edge = bars.some((c) => [c.first, c.last].some((f) => Math.abs(this.x(f) - x) <= EDGE))
    return edge ? 'col-resize' : ''
  }

  private dragSpan(x: number): void {
    const { from, edge } = this.dragged!
    const by = Math.round(this.frame(x) - this.startFrame)
    const end = transport.frames - 1
    const first = edge === 'last' ? from.first : Math.min(Math.max(from.first + by, 0), end)
    const last = edge === 'first' ? from.last : Math.min(Math.max(from.last + by, 0), end)
    this.dragged!.now = { first: Math.min(first, last), last: Math.max(first, last) }
    if (edge !== 'both') transport.seek(edge === 'first' ? first : last)
    this.draw()
  }

  up(): void {
    this.held?.up()
    if (this.held) this.draw()
    this.held = null
    if (this.hold === 'span' && this.dragged) {
      const { from, now, done } = this.dragged
      this.dragged = null
      this.eased = null
      if (from.first === now.first && from.last === now.last) transport.seek(from.first)
      else done(now.first, now.last)
      this.draw()
    }
    if (this.hold !== 'free') this.hold = 'none'
  }

  /** A double press in the lane of pins drops one there. */
  pinAt(event: MouseEvent): void {
    const box = this.canvas.getBoundingClientRect()
    if (this.laneAt(event.clientY - box.top)?.lane.kind === 'pins')
      addPin(Math.round(this.frame(event.clientX - box.left)))
  }

  /** Scrub without holding a button: from here, so many frames a pixel, until a click. */
  handsFree(on: boolean, x = 0): void {
    if (on === (this.hold === 'free')) return
    if (on) {
      transport.pause()
      this.hold = 'free'
      this.startX = x
      this.startFrame = transport.frame
      addEventListener('pointermove', this.freely)
      addEventListener('pointerdown', this.endFree, { capture: true })
    } else {
      this.hold = 'none'
      removeEventListener('pointermove', this.freely)
      removeEventListener('pointerdown', this.endFree, { capture: true })
    }
    this.onHandsFree(on)
  }

  private freely = (event: PointerEvent): void => {
    transport.seek(this.startFrame + (event.clientX - this.startX) * this.sensitivity)
  }

  private endFree = (event: PointerEvent): void => {
    event.preventDefault()
    event.stopPropagation()
    this.handsFree(false)
  }

  cancel(): boolean {
    if (this.held) {
      this.held.cancel()
      this.held = null
      this.hold = 'none'
      this.draw()
      return true
    }
    if (this.dragged) {
      this.dragged = null
      this.eased = null
      this.hold = 'none'
      this.draw()
      return true
    }
    if (this.hold !== 'free') return false
    this.handsFree(false)
    transport.seek(this.startFrame)
    return true
  }

  /** Something on the strip has changed. */
  draw = (): void => {
    this.stale = true
    this.drawNow()
  }

  /** Only time has gone on: what lies beneath the line of now is kept as it was drawn. */
  drawNow = (): void => {
    if (this.asked) return
    this.asked = true
    requestAnimationFrame(() => {
      this.asked = false
      this.paint()
    })
  }

  /** Keys are dragged somewhere: drawn along where it is done here. */
  drawDragged = (): void => {
    if (this.held) this.draw()
  }

  private stale = true
  private beneath = document.createElement('canvas')
  private paintedRange: readonly [number, number] = [0, 0]

  private paint(): void {
    const [w, h] = this.size
    const g = this.canvas.getContext('2d')
    if (!g || !this.clip || w < 2) return
    const { range } = transport
    if (this.stale || range.some((f, k) => f !== this.paintedRange[k])) {
      this.stale = false
      this.paintedRange = [...range]
      this.paintBeneath(w, h)
    }
    g.setTransform(1, 0, 0, 1, 0, 0)
    g.clearRect(0, 0, this.canvas.width, this.canvas.height)
    g.drawImage(this.beneath, 0, 0)
    g.setTransform(devicePixelRatio, 0, 0, devicePixelRatio, 0, 0)
    g.fillStyle = token('signal')
    g.fillRect(this.x(transport.frame) - 0.75, 0, 1.5, h)
  }

  private paintBeneath(w: number, h: number): void {
    this.beneath.width = this.canvas.width
    this.beneath.height = this.canvas.height
    const g = this.beneath.getContext('2d')!
    g.setTransform(devicePixelRatio, 0, 0, devicePixelRatio, 0, 0)
    g.clearRect(0, 0, w, h)
    this.warp = warpOf()
    const [first, last] = transport.range
    g.fillStyle = token('sunk')
    g.fillRect(this.x(first), RULER, Math.max(2, this.x(last) - this.x(first)), h - RULER)
    this.ruler(g, first, last)
    for (const [n, lane] of this.lanes.entries()) this.lane(g, lane, RULER + 2 + n * LANE_HEIGHT)
    this.pins(g, h)
  }

  private lane(g: CanvasRenderingContext2D, lane: Lane, y: number): void {
    const middle = y + LANE_HEIGHT / 2
    g.fillStyle = token('rule')
    g.fillRect(LEFT, middle, this.width, 1)
    g.font = '10.5px "IBM Plex Sans"'
    g.textAlign = 'left'
    g.textBaseline = 'middle'
    g.fillStyle = token('ink-3')
    g.fillText(lane.label, LEFT + this.width + 9, middle)
    if (lane.kind === 'contact') {
      const half = lane.lower.length ? LANE_HEIGHT / 2 - 1 : LANE_HEIGHT - 3
      for (const c of lane.upper) this.bar(g, c, y + 1, half)
      for (const c of lane.lower) this.bar(g, c, y + LANE_HEIGHT / 2, half)
    } else if (lane.kind === 'plant') {
      const half = lane.lower.length ? LANE_HEIGHT / 2 - 1 : LANE_HEIGHT - 3
      for (const p of lane.upper) this.ramped(g, p, y + 1, half)
      for (const p of lane.lower) this.ramped(g, p, y + LANE_HEIGHT / 2, half)
    } else if (lane.kind === 'finding') {
      for (const f of lane.findings) this.mark(g, f, y)
    } else if (lane.kind === 'marks') {
      for (const m of lane.marks) this.named(g, m, y)
    } else if (lane.kind === 'drift') {
      this.hill(g, lane.moved.mended, lane.most, y, true)
      this.hill(g, lane.moved.rest, lane.most, y, false)
    } else if (lane.kind === 'keys') this.keysLane(g, y)
  }

  /** The keys of the selected joints; over the selected stretch a bar with firm ends. */
  private keysLane(g: CanvasRenderingContext2D, y: number): void {
    const stretch = this.keysHand.stretch()
    if (stretch) {
      const [a, b] = stretch.map((t) => this.x(t)) as [number, number]
      g.fillStyle = token('calm')
      g.globalAlpha = 0.25
      g.fillRect(a - 2, y, b - a + 4, LANE_HEIGHT)
      g.globalAlpha = 1
      g.fillStyle = token('ink')
      for (const x of [a - 2.5, b + 1]) g.fillRect(x, y, 1.5, LANE_HEIGHT)
    }
    g.fillStyle = token('calm')
    for (const k of this.keysShown()) g.fillRect(this.xAfter(k) - 0.5, y + 2, 1, LANE_HEIGHT - 4)
  }

  /** Times of the keys; while some are dragged, where they would be. */
  private keysShown(): number[] {
    if (!draft.curves.size || !this.clip) return this.keys
    const { joints, curves } = useBench.getState()
    return keyFrames(this.clip, joints, new Map([...curves, ...draft.curves]))
  }

  /** Pins: a head in their lane, a line through all others, and a thread to where they were. */
  private pins(g: CanvasRenderingContext2D, h: number): void {
    const n = this.lanes.findIndex((lane) => lane.kind === 'pins')
    const { pins } = usePins.getState()
    if (n < 0 || !pins) return
    const middle = RULER + 2 + n * LANE_HEIGHT + LANE_HEIGHT / 2
    pins.forEach((pin, k) => {
      const [from, to] = [this.x(pin.from), this.x(pin.to)]
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
  private bar(g: CanvasRenderingContext2D, contact: Contact, y: number, height: number): void {
    const held = this.dragged?.from === contact
    const shown = held ? this.dragged!.now : contact
    const chosen = held || sameContact(useBench.getState().contact, contact)
    const x = this.xAfter(shown.first)
    const width = Math.max(2, this.xAfter(shown.last) - x)
    g.fillStyle = token(chosen ? 'signal' : 'calm')
    g.globalAlpha = chosen ? 0.75 : 0.4
    g.fillRect(x, y, width, height)
    g.globalAlpha = 1
    g.fillRect(x, y, 1.5, height)
    g.fillRect(x + width - 1.5, y, 1.5, height)
  }

  /** A plant: a solid bar between the ramps over which it comes and goes; muted, its outline. */
  private ramped(g: CanvasRenderingContext2D, plant: Plant, y: number, height: number): void {
    const held = this.dragged?.from === plant
    const shown = held ? this.dragged!.now : plant
    const eased = this.eased?.plant === plant ? this.eased.side : null
    const at = this.dragged?.now.first ?? 0
    const coming = eased === 'in' ? at : shown.first - plant.ease_in
    const going = eased === 'out' ? at : shown.last + plant.ease_out
    const [a, b, c, d] = [coming, shown.first, shown.last, going].map((f) =>
      this.xAfter(Math.min(Math.max(f, 0), this.end)),
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
  private named(g: CanvasRenderingContext2D, mark: Mark, y: number): void {
    const shown = this.dragged?.from === mark ? this.dragged.now : mark
    const x = this.xAfter(shown.first)
    g.fillStyle = token('ink')
    if (shown.last > shown.first) g.fillRect(x, y + LANE_HEIGHT - 3, this.xAfter(shown.last) - x, 2)
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
  private hill(
    g: CanvasRenderingContext2D,
    mm: Float32Array,
    most: number,
    y: number,
    hatched: boolean,
  ): void {
    g.fillStyle = token(hatched ? 'calm' : 'warn')
    const per = (transport.frames - 1) / Math.max(1, this.width)
    for (let px = 0; px < this.width; px += hatched ? 3 : 1) {
      let worst = 0
      const last = Math.min(mm.length - 1, Math.ceil((px + 1) * per))
      for (let f = Math.floor(px * per); f <= last; f++) worst = Math.max(worst, mm[f]!)
      const height = (worst / most) * (LANE_HEIGHT - 2)
      g.fillRect(LEFT + px, y + LANE_HEIGHT - 1 - height, 1, height)
    }
  }

  /** A finding: a span by its severity; what is meant is an outline. */
  private mark(g: CanvasRenderingContext2D, f: Finding, y: number): void {
    const x = this.xAfter(f.first)
    const width = Math.max(2.5, this.xAfter(f.last) - x)
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

  private ruler(g: CanvasRenderingContext2D, first: number, last: number): void {
    g.font = '10.5px "IBM Plex Mono"'
    g.textAlign = 'center'
    g.textBaseline = 'middle'
    g.fillStyle = token('ink-3')
    g.strokeStyle = token('rule-2')
    const { end } = this
    for (const t of ticks(0, end, this.width / 90, true)) {
      g.beginPath()
      g.moveTo(this.x(t), RULER - 3)
      g.lineTo(this.x(t), RULER)
      g.stroke()
      const held = [first, last].some((f) => Math.abs(this.x(f) - this.x(t)) < 18)
      if (!held) g.fillText(String(t), this.x(t), 7)
    }
    g.fillStyle = token('ink')
    for (const [frame, side] of [
      [first, 1],
      [last, -1],
    ] as const) {
      const x = this.x(frame)
      g.beginPath()
      g.moveTo(x, 2)
      g.lineTo(x + 5 * side, 2)
      g.lineTo(x + 5 * side, RULER - 5)
      g.lineTo(x, RULER)
      g.fill()
    }
  }
}
