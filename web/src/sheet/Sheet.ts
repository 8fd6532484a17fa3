/** The curve sheet: owns its two canvases, its view and its pointer state; React mounts it. */
import { axisOf, type ChannelKey, type Curve, valueAt } from '../clip/curves'
import { transport } from '../clip/transport'
import { token } from '../ui/theme'
import {
  type Box,
  memoryKey,
  padded,
  timeToX,
  type View,
  valueToY,
  xToTime,
  yToValue,
  zoomTime,
  zoomValue,
} from './geometry'
import { type Drawing, field, paint, placeOf, RULER, samples } from './painter'
import { Idle } from './tools/Idle'
import type { At, Tool } from './tools/tool'

export interface Content {
  clip: number
  frames: number
  channels: readonly ChannelKey[]
  curves: ReadonlyMap<ChannelKey, Curve>
  before: ReadonlyMap<ChannelKey, Curve>
  name: (key: ChannelKey) => string
  unit: (key: ChannelKey) => string
}

const MEMORY = 'lean.sheet.views'
const NEAR = 8 // pixels
const AROUND_S = 0.25

export class Sheet {
  view: View = { t0: 0, t1: 100, v0: -1, v1: 1 }
  bands = false
  /** Pictures of the curves drawn so far, for measurements. */
  drawn = 0
  onReadout: (text: string) => void = () => {}
  private content: Content | null = null
  private tool: Tool = new Idle()
  private size: [number, number] = [0, 0]
  private asked = false
  private stale = true
  private boxShown: Box | null = null
  private hovered: { key: ChannelKey; time: number } | null = null
  private memory: Record<string, View> = {}
  private shownClip = -1

  constructor(
    private base: HTMLCanvasElement,
    private over: HTMLCanvasElement,
  ) {
    try {
      this.memory = JSON.parse(sessionStorage.getItem(MEMORY) ?? '{}') as Record<string, View>
    } catch {
      this.memory = {}
    }
    over.addEventListener('wheel', this.wheel, { passive: false })
  }

  dispose(): void {
    this.over.removeEventListener('wheel', this.wheel)
  }

  get box(): Box {
    return field(...this.size)
  }

  resize(width: number, height: number): void {
    this.size = [width, height]
    const scale = devicePixelRatio
    for (const canvas of [this.base, this.over]) {
      canvas.width = Math.round(width * scale)
      canvas.height = Math.round(height * scale)
      canvas.getContext('2d')!.setTransform(scale, 0, 0, scale, 0, 0)
    }
    this.invalidate()
  }

  /** What is shown. A selection seen before gets the view it had; a new one is fitted. */
  show(content: Content): void {
    const old = this.content
    this.content = content
    const same =
      old !== null &&
      memoryKey(old.clip, old.channels) === memoryKey(content.clip, content.channels)
    const arrived = content.channels.every((c) => content.curves.has(c))
    const had = old?.channels.every((c) => old.curves.has(c)) ?? false
    if (arrived && (!same || !had)) {
      const kept = this.memory[memoryKey(content.clip, content.channels)]
      if (kept) this.view = kept
      else this.frameAll(this.shownClip !== content.clip)
      this.shownClip = content.clip
    }
    this.hovered = null
    this.invalidate()
  }

  setBands(bands: boolean): void {
    this.bands = bands
    this.invalidate()
  }

  setView(view: View): void {
    this.view = view
    if (this.content) {
      this.memory[memoryKey(this.content.clip, this.content.channels)] = view
      sessionStorage.setItem(MEMORY, JSON.stringify(this.memory))
    }
    this.invalidate()
  }

  private fitted(t0: number, t1: number): View {
    let low = Number.POSITIVE_INFINITY
    let high = Number.NEGATIVE_INFINITY
    const { content } = this
    for (const key of content?.channels ?? []) {
      const curve = content!.curves.get(key)
      if (!curve) continue
      const values = samples(curve, content!.frames)
      const last = Math.min(values.length - 1, Math.ceil(t1))
      for (let i = Math.max(0, Math.floor(t0)); i <= last; i++) {
        low = Math.min(low, values[i]!)
        high = Math.max(high, values[i]!)
      }
    }
    const [v0, v1] = padded(low, high)
    return { t0, t1, v0, v1 }
  }

  /** All of the channels; with `time` the whole clip, else the times that are seen. */
  frameAll(time = true): void {
    const frames = this.content?.frames ?? 100
    const edge = Math.max(1, frames * 0.01)
    const [t0, t1] = time ? [-edge, frames - 1 + edge] : [this.view.t0, this.view.t1]
    this.setView(this.fitted(t0, t1))
  }

  /** The transport's range, values fitted to it. */
  frameRange(): void {
    const [first, last] = transport.range
    const edge = Math.max(0.5, (last - first) * 0.01)
    this.setView(this.fitted(first - edge, last + edge))
  }

  /** A short time about now, values fitted to it. */
  aroundNow(): void {
    const half = Math.max(AROUND_S * transport.rate, 2)
    this.setView(this.fitted(transport.frame - half, transport.frame + half))
  }

  timeAt(x: number): number {
    return xToTime(this.view, this.box, x)
  }

  region(at: At): 'gutter' | 'ruler' | 'now' | 'field' {
    const box = this.box
    if (at.y > box.top + box.height) return 'ruler'
    if (at.x < box.left) return 'gutter'
    if (Math.abs(at.x - timeToX(this.view, box, transport.frame)) < 5) return 'now'
    return 'field'
  }

  private drawing(): Drawing {
    const { content } = this
    return {
      view: this.view,
      bands: this.bands,
      frames: content?.frames ?? 1,
      channels: content?.channels ?? [],
      curves: content?.curves ?? new Map(),
      before: content?.before ?? new Map(),
      unit: content?.unit ?? (() => ''),
    }
  }

  private nearest(at: At): ChannelKey | null {
    const drawing = this.drawing()
    const time = this.timeAt(at.x)
    let best: ChannelKey | null = null
    let distance = NEAR * 1.5
    for (const key of drawing.channels) {
      const curve = drawing.curves.get(key)
      if (!curve) continue
      const { view, box } = placeOf(drawing, this.box, key)
      const gap = Math.abs(valueToY(view, box, valueAt(curve, time)) - at.y)
      if (gap < distance) {
        distance = gap
        best = key
      }
    }
    return best
  }

  hover(at: At): void {
    const key = this.region(at) === 'field' ? this.nearest(at) : null
    this.hovered = key ? { key, time: this.timeAt(at.x) } : null
    this.over.style.cursor =
      { gutter: 'ns-resize', ruler: 'ew-resize', now: 'ew-resize' }[this.region(at) as 'gutter'] ??
      'default'
    this.draw()
  }

  /** A press without a drag: to the key under it, else to the time. */
  click(at: At): void {
    const key = this.nearest(at)
    const curve = key === null ? undefined : this.content?.curves.get(key)
    transport.pause()
    if (key !== null && curve?.kind === 'keyed') {
      const { view, box } = placeOf(this.drawing(), this.box, key)
      let near = NEAR
      let frame: number | null = null
      curve.time.forEach((t, k) => {
        const gap = Math.hypot(
          timeToX(view, box, t) - at.x,
          valueToY(view, box, curve.value[k]!) - at.y,
        )
        if (gap < near) {
          near = gap
          frame = t
        }
      })
      transport.seek(frame ?? this.timeAt(at.x))
    } else transport.seek(this.timeAt(at.x))
  }

  showBox(box: Box | null): void {
    this.boxShown = box
    this.draw()
  }

  private at(event: PointerEvent | WheelEvent | MouseEvent): At {
    const edge = this.over.getBoundingClientRect()
    return {
      x: event.clientX - edge.left,
      y: event.clientY - edge.top,
      shift: event.shiftKey,
      button: event.button,
    }
  }

  down(event: PointerEvent): void {
    if (event.button > 1 || !(this.tool instanceof Idle)) return
    this.over.setPointerCapture(event.pointerId)
    this.tool = this.tool.onDown(this, this.at(event))
    this.over.style.cursor = this.tool.cursor
  }

  move(event: PointerEvent): void {
    this.tool.onMove(this, this.at(event))
  }

  up(event: PointerEvent): void {
    this.tool = this.tool.onUp(this, this.at(event))
    this.over.style.cursor = this.tool.cursor
  }

  leave(): void {
    this.hovered = null
    this.draw()
  }

  /** Escape: the state under way is left and what it changed is put back. */
  cancel(): boolean {
    if (this.tool instanceof Idle) return false
    this.tool.onCancel(this)
    this.tool = new Idle()
    return true
  }

  private wheel = (event: WheelEvent): void => {
    event.preventDefault()
    const at = this.at(event)
    const factor = 1.0015 ** event.deltaY
    if (Math.abs(event.deltaX) > Math.abs(event.deltaY)) {
      const dt = (event.deltaX / this.box.width) * (this.view.t1 - this.view.t0)
      this.setView({ ...this.view, t0: this.view.t0 + dt, t1: this.view.t1 + dt })
    } else if (event.shiftKey || this.region(at) === 'gutter') {
      this.setView(zoomValue(this.view, factor, yToValue(this.view, this.box, at.y)))
    } else this.setView(zoomTime(this.view, factor, this.timeAt(at.x)))
  }

  /** The curves need drawing again, not only what lies over them. */
  invalidate(): void {
    this.stale = true
    this.draw()
  }

  draw = (): void => {
    if (this.asked) return
    this.asked = true
    requestAnimationFrame(() => {
      this.asked = false
      const [w, h] = this.size
      if (w < 2) return
      if (this.stale) {
        this.stale = false
        this.drawn++
        paint(this.base.getContext('2d')!, w, h, this.drawing())
      }
      this.overlay(this.over.getContext('2d')!, w, h)
    })
  }

  private overlay(g: CanvasRenderingContext2D, w: number, h: number): void {
    g.clearRect(0, 0, w, h)
    const box = this.box
    const signal = token('signal')
    const x = timeToX(this.view, box, transport.frame)
    if (x >= box.left - 1 && x <= box.left + box.width + 1) {
      g.fillStyle = signal
      g.fillRect(x - 0.75, 0, 1.5, h - RULER)
      g.beginPath()
      g.moveTo(x - 6, h - RULER + 6)
      g.lineTo(x + 6, h - RULER + 6)
      g.lineTo(x, h - RULER - 2)
      g.fill()
    }
    if (this.boxShown) {
      g.strokeStyle = token('ink')
      g.setLineDash([4, 3])
      const b = this.boxShown
      g.strokeRect(b.left + 0.5, b.top + 0.5, b.width, b.height)
      g.setLineDash([])
    }
    this.readout(g)
  }

  private readout(g: CanvasRenderingContext2D): void {
    const { content, hovered } = this
    if (!content || !hovered) {
      this.onReadout('')
      return
    }
    const curve = content.curves.get(hovered.key)
    if (!curve) return
    const frame = Math.round(hovered.time)
    const value = valueAt(curve, frame)
    const { view, box } = placeOf(this.drawing(), this.box, hovered.key)
    g.fillStyle = token(axisOf(hovered.key))
    g.beginPath()
    g.arc(timeToX(view, box, frame), valueToY(view, box, value), 4, 0, 7)
    g.fill()
    const sign = value < 0 ? '−' : '+'
    const unit = content.unit(hovered.key)
    this.onReadout(
      `${content.name(hovered.key)} · frame ${frame} · ${sign}${Math.abs(value).toFixed(2)}${unit}`,
    )
  }
}
