/** The strip's canvas: ruler, range, lanes of contacts, findings and keys, now. */

import { moveContact } from '../actions/contacts'
import { goTo, mend, sizeOf } from '../actions/findings'
import { moveMark } from '../actions/marks'
import { addPin, usePins, warpOf } from '../actions/pins'
import { changePlant, choosePlant } from '../actions/plants'
import type { Clip, Contact, Finding, Plant } from '../evaluation/model'
import type { Warp } from '../evaluation/warp'
import { token } from '../ui/theme'
import { type Moved, useBench } from '../view/bench'
import { draft } from '../view/draft'
import { transport } from '../view/transport'
import { KeysHand } from './KeysHand'
import { keyFrames } from './keyFrames'
import { EDGE, type LaneHand, type Scale } from './laneHand'
import { LANE_HEIGHT, type Lane, LEFT, lanesOf, type PartBar, RULER } from './lanes'
import { PartsHand } from './PartsHand'
import { PinsHand } from './PinsHand'
import { type Picture, paintLane, paintPins, paintRuler, type Span } from './paint'

type Hold = 'none' | 'time' | 'first' | 'last' | 'free' | 'span' | 'lane'

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
  private partsHand = new PartsHand()
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
    parts: PartBar[],
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
      parts,
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
    if (lane.kind === 'parts') return this.partsHand.over(lane.bars)
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
    if (lane?.kind === 'parts') {
      const part = lane.bars.find((bar) => this.x(bar.first) <= x && x <= this.x(bar.last))
      return part ? `${part.name}: frames ${part.first}–${part.last}` : ''
    }
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
    const picture = this.picture(g)
    paintRuler(picture, first, last)
    for (const [n, lane] of this.lanes.entries())
      paintLane(picture, lane, RULER + 2 + n * LANE_HEIGHT)
    paintPins(picture, h)
  }

  private picture(g: CanvasRenderingContext2D): Picture {
    const { width, end, lanes, dragged, eased } = this
    const x = (frame: number) => this.x(frame)
    const xAfter = (frame: number) => this.xAfter(frame)
    const stretch = this.keysHand.stretch()
    const trimmed = this.partsHand.held
    const keys = this.keysShown()
    return { g, width, end, lanes, x, xAfter, keys, stretch, dragged, eased, trimmed }
  }

  /** Times of the keys; while some are dragged, where they would be. */
  private keysShown(): number[] {
    if (!draft.curves.size || !this.clip) return this.keys
    const { joints, curves } = useBench.getState()
    return keyFrames(this.clip, joints, new Map([...curves, ...draft.curves]))
  }
}
