/** The strip's canvas: ruler, range, lanes, keys of the selection, now. */
import type { Schemas } from '../api/client'
import { type Clip, selectJoints, setStep } from '../clip/bench'
import { transport } from '../clip/transport'
import { ticks } from '../sheet/geometry'
import { token } from '../ui/theme'

type Hold = 'none' | 'time' | 'first' | 'last' | 'free'

interface Finding {
  lane: number
  frame: number
  joint: number
}

const LEFT = 14
const LABELS = 64
const LANES = ['wraps', 'alternates', 'snaps', 'keys'] as const
const LANE = 12
const RULER = 16

export class Strip {
  sensitivity = 0.5
  onHandsFree: (on: boolean) => void = () => {}
  private clip: Clip | null = null
  private findings: Finding[] = []
  private keys: number[] = []
  private size: [number, number] = [0, 0]
  private hold: Hold = 'none'
  private asked = false
  private startX = 0
  private startFrame = 0

  constructor(private canvas: HTMLCanvasElement) {}

  dispose(): void {
    this.handsFree(false)
  }

  show(clip: Clip, flips: Schemas['FlipsOut'] | null, keys: number[]): void {
    this.clip = clip
    this.keys = keys
    const index = new Map(clip.joints.map((j, k) => [j.name, k]))
    const lanes = flips ? [flips.wraps_at, flips.alternates_at, flips.snaps_at] : []
    this.findings = lanes.flatMap((list, lane) =>
      list.map((f) => ({ lane, frame: f.frame, joint: index.get(f.joint) ?? 0 })),
    )
    this.draw()
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

  private x(frame: number): number {
    return LEFT + (frame / Math.max(1, transport.frames - 1)) * this.width
  }

  private frame(x: number): number {
    return ((x - LEFT) / this.width) * (transport.frames - 1)
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

  /** A finding under the pointer: to its frame, its joint, and the step that mends it. */
  private pick(x: number, y: number): boolean {
    const lane = Math.floor((y - RULER - 2) / LANE)
    let best: Finding | null = null
    let near = 4
    for (const finding of this.findings) {
      const gap = Math.abs(this.x(finding.frame) - x)
      if (finding.lane === lane && gap < near) {
        near = gap
        best = finding
      }
    }
    if (!best) return false
    transport.seek(best.frame)
    selectJoints([best.joint])
    setStep('unflip')
    return true
  }

  move(event: PointerEvent): void {
    const [x] = this.local(event)
    if (this.hold === 'time') transport.seek(this.frame(x))
    if (this.hold === 'first') transport.setRange(this.frame(x), transport.range[1])
    if (this.hold === 'last') transport.setRange(transport.range[0], this.frame(x))
  }

  up(): void {
    if (this.hold !== 'free') this.hold = 'none'
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
    if (this.hold !== 'free') return false
    this.handsFree(false)
    transport.seek(this.startFrame)
    return true
  }

  draw = (): void => {
    if (this.asked) return
    this.asked = true
    requestAnimationFrame(() => {
      this.asked = false
      this.paint()
    })
  }

  private paint(): void {
    const [w, h] = this.size
    const g = this.canvas.getContext('2d')
    if (!g || !this.clip || w < 2) return
    g.setTransform(devicePixelRatio, 0, 0, devicePixelRatio, 0, 0)
    g.clearRect(0, 0, w, h)
    const [first, last] = transport.range
    g.fillStyle = token('sunk')
    g.fillRect(this.x(first), RULER, Math.max(2, this.x(last) - this.x(first)), h - RULER)
    this.ruler(g, first, last)
    g.font = '10.5px "IBM Plex Sans"'
    g.textAlign = 'left'
    g.textBaseline = 'middle'
    LANES.forEach((name, lane) => {
      const y = RULER + 2 + lane * LANE + LANE / 2
      g.fillStyle = token('rule')
      g.fillRect(LEFT, y, this.width, 1)
      g.fillStyle = token('ink-3')
      g.fillText(name, LEFT + this.width + 9, y)
    })
    const colours = [token('bad'), token('bad'), token('warn')]
    for (const f of this.findings) {
      const y = RULER + 2 + f.lane * LANE + LANE / 2
      g.fillStyle = colours[f.lane]!
      const x = this.x(f.frame)
      // Each lane has a shape of its own: a bar, a slanted bar, a wedge.
      g.beginPath()
      if (f.lane === 0) g.rect(x - 1.25, y - 4, 2.5, 8)
      else if (f.lane === 1) {
        g.moveTo(x - 3, y + 4)
        g.lineTo(x, y + 4)
        g.lineTo(x + 3, y - 4)
        g.lineTo(x, y - 4)
      } else {
        g.moveTo(x - 3.5, y + 4)
        g.lineTo(x + 3.5, y + 4)
        g.lineTo(x, y - 4)
      }
      g.fill()
    }
    g.fillStyle = token('calm')
    const y = RULER + 2 + 3 * LANE
    for (const k of this.keys) g.fillRect(this.x(k) - 0.5, y + 2, 1, LANE - 4)
    g.fillStyle = token('signal')
    g.fillRect(this.x(transport.frame) - 0.75, 0, 1.5, h)
  }

  private ruler(g: CanvasRenderingContext2D, first: number, last: number): void {
    g.font = '10.5px "IBM Plex Mono"'
    g.textAlign = 'center'
    g.textBaseline = 'middle'
    g.fillStyle = token('ink-3')
    g.strokeStyle = token('rule-2')
    const end = transport.frames - 1
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
