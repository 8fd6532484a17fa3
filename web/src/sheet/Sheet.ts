/** The curve sheet: owns its two canvases, its view and its pointer state; React mounts it. */

import { onLive, usePosing } from '../actions/posing'
import { axisOf, type ChannelKey, type Curve, readoutUnit, valueAt } from '../evaluation/curves'
import {
  type At,
  type Box,
  padded,
  stretched,
  timeToX,
  type View,
  valueToY,
  xToTime,
  yToValue,
  zoomTime,
  zoomValue,
} from '../ui/geometry'
import { token } from '../ui/theme'
import { draft } from '../view/draft'
import { countKeys, keysWhere, selectKeys, useSelection } from '../view/selection'
import { transport } from '../view/transport'
import { useBrush } from './brushState'
import { GRIPS, handleEnds, spotOf } from './handles'
import {
  paintLost,
  paintNow,
  paintOutside,
  paintReach,
  paintScaleBox,
  paintUnkeyed,
} from './overlay'
import { type Drawing, field, type Places, paint, placeOf, RULER, samples } from './painter'
import { Pointed, Pointer } from './pointer'
import type { Extent, Grip, HandlePlace, KeyPlace, Surface } from './surface'
import { Idle } from './tools/Idle'
import { memoryKey, ViewMemory } from './viewMemory'

export interface Content {
  clip: number
  frames: number
  channels: readonly ChannelKey[]
  curves: ReadonlyMap<ChannelKey, Curve>
  before: ReadonlyMap<ChannelKey, Curve>
  /** Laid over to be matched by hand. */
  guide: readonly Curve[]
  /** A preview is shown: its keys are nobody's to take hold of yet. */
  previewed: boolean
  name: (key: ChannelKey) => string
  unit: (key: ChannelKey) => string
}

const NEAR = 8 // pixels
/** Handles of more keys than this are not drawn: they would hide the curves. */
const MANY_HANDLES = 60
/** Of more selected keys than this none is looked for outside the view: that is not quick. */
const MANY_POINTED_AT = 2000
const AROUND_S = 0.25

export class Sheet extends Pointed<Surface> implements Surface {
  view: View = { t0: 0, t1: 100, v0: -1, v1: 1 }
  bands = false
  /** Pictures of the curves drawn so far, for measurements. */
  drawn = 0
  onReadout: (text: string) => void = () => {}
  onHover: (key: ChannelKey | null) => void = () => {}
  /** Whether time goes along to the key that is picked. */
  follows = true
  /** Values snap to whole steps of this, where it is above 0. */
  step = 0
  /** The take's curves, for what brings it back. */
  take: ReadonlyMap<ChannelKey, Curve> = new Map()
  private content: Content | null = null
  protected readonly pointing: Pointer<Surface>
  private size: [number, number] = [0, 0]
  /** Frames a second of what is shown. */
  private rate = transport.rate
  private asked = false
  private stale = true
  private boxShown: Box | null = null
  private hovered: { key: ChannelKey; time: number } | null = null
  private memory = new ViewMemory()
  private shownClip = -1
  private pointer: At | null = null
  private stops: (() => void)[]

  constructor(
    private base: HTMLCanvasElement,
    private over: HTMLCanvasElement,
  ) {
    super()
    this.pointing = new Pointer<Surface>(this, over, new Idle())
    over.addEventListener('wheel', this.wheel, { passive: false })
    const again = () => this.invalidate()
    this.stops = [
      draft.subscribe(() => this.drafted()),
      useSelection.subscribe(again),
      useBrush.subscribe(() => this.draw()),
      usePosing.subscribe(() => this.draw()),
      onLive(() => this.draw()),
    ]
  }

  /** Whether something of what is dragged was drawn here. */
  private dragged = false

  /** What is dragged elsewhere, and is not among the channels shown, changes nothing here. */
  private drafted(): void {
    const shown = this.content?.channels ?? []
    const here = shown.some((key) => draft.curves.has(key) || draft.muted.has(key))
    if (here || this.dragged) this.invalidate()
    this.dragged = here
  }

  dispose(): void {
    this.memory.write()
    this.over.removeEventListener('wheel', this.wheel)
    for (const stop of this.stops) stop()
  }

  get brush() {
    return useBrush.getState().kind
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
    if (old?.clip === content.clip && transport.rate !== this.rate) {
      const scale = transport.rate / this.rate
      this.memory.stretch(content.clip, scale)
      this.view = stretched(this.view, scale)
    }
    this.rate = transport.rate
    const same =
      old !== null &&
      memoryKey(old.clip, old.channels) === memoryKey(content.clip, content.channels)
    const arrived = content.channels.every((c) => content.curves.has(c))
    const had = old?.channels.every((c) => old.curves.has(c)) ?? false
    if (arrived && (!same || !had)) {
      const kept = this.memory.of(memoryKey(content.clip, content.channels))
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
      this.memory.keep(memoryKey(this.content.clip, this.content.channels), view)
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

  /** The selected keys, with room around them; without any, all of the values that are seen. */
  frameSelection(): void {
    const extent = this.extent()
    if (!extent) {
      this.frameAll(false)
      return
    }
    const [v0, v1] = padded(extent.v0, extent.v1)
    const room = Math.max((extent.t1 - extent.t0) * 0.15, 4)
    this.setView({ t0: extent.t0 - room, t1: extent.t1 + room, v0, v1 })
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

  /** A channel's curve as it is seen: while it is dragged, as it would be. */
  curve(key: ChannelKey): Curve | undefined {
    return draft.curves.get(key) ?? this.content?.curves.get(key)
  }

  placeOf(key: ChannelKey): { view: View; box: Box } {
    const places = this.places()
    return placeOf(places, this.box, places.channels.includes(key) ? key : places.channels[0]!)
  }

  private curvesSeen(): ReadonlyMap<ChannelKey, Curve> {
    const own = this.content?.curves ?? new Map<ChannelKey, Curve>()
    return draft.curves.size ? new Map([...own, ...draft.curves]) : own
  }

  get previewed(): boolean {
    return this.content?.previewed ?? false
  }

  /** Channels whose keys can be taken hold of. */
  private get channels(): readonly ChannelKey[] {
    if (this.previewed) return []
    return this.content?.channels.filter((key) => readoutUnit(key) === undefined) ?? []
  }

  snapped(value: number): number {
    return this.step > 0 ? Math.round(value / this.step) * this.step : value
  }

  /** The key under the pointer, the nearest one. */
  keyAt(at: At): (KeyPlace & { gap: number }) | null {
    let best: (KeyPlace & { gap: number }) | null = null
    let near = NEAR
    const places = this.places()
    for (const channel of this.channels) {
      const curve = places.curves.get(channel)
      if (curve?.kind !== 'keyed') continue
      const { view, box } = placeOf(places, this.box, channel)
      for (let k = 0; k < curve.time.length; k++) {
        const x = timeToX(view, box, curve.time[k]!)
        if (Math.abs(x - at.x) > near) continue
        const gap = Math.hypot(x - at.x, valueToY(view, box, curve.value[k]!) - at.y)
        if (gap >= near) continue
        near = gap
        best = { channel, id: Number(curve.id[k]), time: curve.time[k]!, gap }
      }
    }
    return best
  }

  protected pick(at: At): boolean {
    const key = this.keyAt(at)
    if (!key) return false
    if (!useSelection.getState().keys.get(key.channel)?.has(key.id))
      selectKeys(new Map([[key.channel, new Set([key.id])]]))
    return true
  }

  /** The keys in a box of the sheet. */
  keysIn(area: Box): Map<ChannelKey, Set<number>> {
    const places = this.places()
    return keysWhere(places.curves, this.channels, (curve, k, key) => {
      const { view, box } = placeOf(places, this.box, key)
      const x = timeToX(view, box, curve.time[k]!)
      const y = valueToY(view, box, curve.value[k]!)
      return (
        x >= area.left &&
        x <= area.left + area.width &&
        y >= area.top &&
        y <= area.top + area.height
      )
    })
  }

  /** Ends of the selected keys' handles, where they are shown. */
  private handles(): HandlePlace[] {
    const { keys } = useSelection.getState()
    if (countKeys(keys) > MANY_HANDLES) return []
    const seen = this.curvesSeen()
    return [...keys].flatMap(([channel, ids]) => {
      const curve = seen.get(channel)
      if (curve?.kind !== 'keyed' || !this.channels.includes(channel)) return []
      const { view, box } = this.placeOf(channel)
      const pixels = (time: number, value: number) =>
        [timeToX(view, box, time), valueToY(view, box, value)] as const
      return handleEnds(curve, ids).map((end) => {
        const key = pixels(curve.time[end.index]!, curve.value[end.index]!)
        return { ...end, channel, ...spotOf(end.side, key, pixels(end.time, end.value)) }
      })
    })
  }

  /** The handle under the pointer; where a selected key, or a nearer one, is too, the key wins. */
  handleAt(at: At): HandlePlace | null {
    let best: HandlePlace | null = null
    let near = NEAR - 1
    for (const handle of this.handles()) {
      const gap = Math.hypot(handle.x - at.x, handle.y - at.y)
      if (gap >= near) continue
      near = gap
      best = handle
    }
    const key = best && this.keyAt(at)
    if (!key) return best
    const chosen = useSelection.getState().keys.get(key.channel)?.has(key.id)
    return chosen || key.gap <= near ? null : best
  }

  /** Times and values of the selected keys; null where fewer than two or in bands. */
  extent(): Extent | null {
    const { keys } = useSelection.getState()
    if (this.bands || countKeys(keys) < 2) return null
    const seen = this.curvesSeen()
    const out = {
      t0: Number.POSITIVE_INFINITY,
      t1: Number.NEGATIVE_INFINITY,
      v0: Number.POSITIVE_INFINITY,
      v1: Number.NEGATIVE_INFINITY,
    }
    for (const [channel, ids] of keys) {
      const curve = seen.get(channel)
      if (curve?.kind !== 'keyed') continue
      for (let k = 0; k < curve.time.length; k++) {
        if (!ids.has(Number(curve.id[k]))) continue
        out.t0 = Math.min(out.t0, curve.time[k]!)
        out.t1 = Math.max(out.t1, curve.time[k]!)
        out.v0 = Math.min(out.v0, curve.value[k]!)
        out.v1 = Math.max(out.v1, curve.value[k]!)
      }
    }
    return out.t1 >= out.t0 ? out : null
  }

  /** The scale box in pixels, a little outside of the keys. */
  private scaleBox(): Box | null {
    const extent = this.extent()
    if (!extent) return null
    const { view, box } = this
    const left = timeToX(view, box, extent.t0) - 12
    const top = valueToY(view, box, extent.v1) - 12
    return {
      left,
      top,
      width: timeToX(view, box, extent.t1) + 12 - left,
      height: valueToY(view, box, extent.v0) + 12 - top,
    }
  }

  gripAt(at: At): Grip | null {
    const area = this.scaleBox()
    if (!area) return null
    const found = GRIPS.find(({ time, value }) => {
      const x = area.left + ((time + 1) / 2) * area.width
      const y = area.top + ((1 - value) / 2) * area.height
      return Math.abs(x - at.x) < 7 && Math.abs(y - at.y) < 7
    })
    return found ?? null
  }

  /** Where the pivot is, once it has been set. */
  private pivot(): [number, number] | null {
    const { time, value } = useSelection.getState().pivot
    const extent = this.extent()
    if (!extent || (time === null && value === null)) return null
    const { view, box } = this
    return [
      timeToX(view, box, time ?? (extent.t0 + extent.t1) / 2),
      valueToY(view, box, value ?? (extent.v0 + extent.v1) / 2),
    ]
  }

  pivotAt(at: At): boolean {
    const pivot = this.pivot()
    return pivot !== null && Math.hypot(pivot[0] - at.x, pivot[1] - at.y) < NEAR
  }

  /** Time goes to a key that is picked: never working blind. */
  toKey(key: KeyPlace): void {
    if (!this.follows) return
    transport.pause()
    transport.seek(key.time)
  }

  followKey(key: KeyPlace, by: number): void {
    if (this.follows && transport.frame !== Math.round(key.time + by)) transport.seek(key.time + by)
  }

  /** Where channels stand. */
  private places(): Places {
    const { content } = this
    return {
      view: this.view,
      bands: this.bands,
      frames: content?.frames ?? 1,
      channels: content?.channels ?? [],
      curves: this.curvesSeen(),
      before: draft.curves.size
        ? new Map([
            ...(content?.before ?? []),
            ...[...draft.curves.keys()].flatMap((key): [ChannelKey, Curve][] => {
              const old = content?.curves.get(key)
              return old && !content?.before.has(key) ? [[key, old]] : []
            }),
          ])
        : (content?.before ?? new Map()),
    }
  }

  private drawing(): Drawing {
    const { content } = this
    return {
      ...this.places(),
      guide: content?.guide ?? [],
      selected: useSelection.getState().keys,
      muted: draft.muted,
      handles: this.handles(),
      unit: content?.unit ?? (() => ''),
    }
  }

  nearest(at: At): ChannelKey | null {
    const places = this.places()
    const time = this.timeAt(at.x)
    let best: ChannelKey | null = null
    let distance = NEAR * 1.5
    for (const key of places.channels) {
      const curve = places.curves.get(key)
      if (!curve) continue
      const { view, box } = placeOf(places, this.box, key)
      const gap = Math.abs(valueToY(view, box, valueAt(curve, time)) - at.y)
      if (gap < distance) {
        distance = gap
        best = key
      }
    }
    return best
  }

  hover(at: At): void {
    const where = this.region(at)
    const key = where === 'field' || where === 'now' ? this.nearest(at) : null
    if (key !== (this.hovered?.key ?? null)) this.onHover(key)
    this.hovered = key ? { key, time: this.timeAt(at.x) } : null
    this.pointer = at
    if (this.pointing.idle) this.over.style.cursor = this.cursorAt(at, where)
    this.draw()
  }

  private cursorAt(at: At, where: string): string {
    if (where === 'gutter') return 'ns-resize'
    if (where === 'ruler') return 'ew-resize'
    if (this.brush) return 'crosshair'
    if (this.handleAt(at) || this.keyAt(at) || this.pivotAt(at)) return 'move'
    const grip = this.gripAt(at)
    if (grip) {
      if (!grip.time) return 'ns-resize'
      if (!grip.value) return 'ew-resize'
      return grip.time === grip.value ? 'nesw-resize' : 'nwse-resize'
    }
    return where === 'now' ? 'ew-resize' : 'default'
  }

  /** A press without a drag and beside any key: to its time; the curve under it is the one that
   * key commands walk along. */
  click(at: At): void {
    transport.pause()
    transport.seek(this.timeAt(at.x))
    const key = this.nearest(at)
    if (key) useSelection.setState({ current: key })
  }

  /** The channel under a point, and the frame there: where a key would be set. */
  spotAt(event: MouseEvent): { channel: ChannelKey; frame: number } | null {
    const at = this.pointing.at(event)
    const channel = this.region(at) === 'gutter' || this.keyAt(at) ? null : this.nearest(at)
    if (!channel || readoutUnit(channel) !== undefined) return null
    const frame = Math.round(this.timeAt(at.x))
    return { channel, frame: Math.min(Math.max(frame, 0), (this.content?.frames ?? 1) - 1) }
  }

  showBox(box: Box | null): void {
    this.boxShown = box
    this.draw()
  }

  leave(): void {
    this.hovered = null
    this.pointer = null
    this.onHover(null)
    this.draw()
  }

  private wheel = (event: WheelEvent): void => {
    event.preventDefault()
    const at = this.pointing.at(event)
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
        const { t0, t1, v0, v1 } = this.view
        const { left, top, width, height } = this.box
        // Where things stand, for whoever drives the page without seeing it.
        this.over.dataset.view = [t0, t1, v0, v1, left, top, width, height].join(' ')
        const { channels, curves } = this.places()
        this.over.dataset.arrived = String(channels.every((key) => curves.has(key)))
      }
      this.overlay(this.over.getContext('2d')!, w, h)
    })
  }

  private overlay(g: CanvasRenderingContext2D, w: number, h: number): void {
    g.clearRect(0, 0, w, h)
    const box = this.box
    paintNow(g, this.view, box, h - RULER)
    paintUnkeyed(g, this.places(), box)
    paintLost(g, this.places(), box)
    const { keys } = useSelection.getState()
    if (countKeys(keys) <= MANY_POINTED_AT)
      this.over.dataset.outside = paintOutside(g, this.places(), box, keys)
    const area = this.brush ? null : this.scaleBox()
    if (area) paintScaleBox(g, area, this.pivot())
    const { pointer } = this
    if (this.brush && pointer && this.region(pointer) !== 'gutter')
      paintReach(g, this.view, box, pointer, useBrush.getState())
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
    const curve = this.curve(hovered.key)
    if (!curve) return
    const frame = Math.round(hovered.time)
    const value = valueAt(curve, frame)
    const { view, box } = placeOf(this.places(), this.box, hovered.key)
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
