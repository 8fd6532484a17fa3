/** The timing sheet: keys over time in rows, without their values. Owns its canvas, its view and
 * its pointer state; React mounts it. */

import { STILL, showSlide } from '../actions/edits'
import { type ChannelKey, type Curve, idsOf } from '../evaluation/curves'
import type { Slide } from '../evaluation/sliding'
import { Pointed, Pointer } from '../sheet/pointer'
import { type At, type Box, stretched, type View, xToTime, zoomTime } from '../ui/geometry'
import { draft } from '../view/draft'
import { allSelected, selectedTimes, selectKeys, useSelection } from '../view/selection'
import { transport } from '../view/transport'
import { type Painted, paint } from './paint'
import { type Row, type Union, unionOf, unionOfAll } from './rows'
import { type KeyPlace, ROW, RULER, type Surface } from './surface'
import { Idle } from './tools/Idle'

const NEAR = 6 // pixels
const EDGE = 12

export interface Content {
  clip: number
  frames: number
  rows: readonly Row[]
  curves: ReadonlyMap<ChannelKey, Curve>
  dense: ReadonlySet<ChannelKey>
}

export class Timing extends Pointed<Surface> implements Surface {
  view: View = { t0: 0, t1: 100, v0: 0, v1: 1 }
  /** Pictures drawn so far, for measurements. */
  drawn = 0
  onReadout: (text: string) => void = () => {}
  /** Whether time goes along to the key that is picked. */
  follows = true
  private content: Content | null = null
  private size: [number, number] = [0, 0]
  /** Frames a second of what is shown. */
  private rate = transport.rate
  private scroll = 0
  private asked = false
  protected readonly pointing: Pointer<Surface>
  private unions = new Map<string, Union>()
  private boxShown: Box | null = null
  private hovered: KeyPlace | null = null
  private stops: (() => void)[]

  constructor(private canvas: HTMLCanvasElement) {
    super()
    this.pointing = new Pointer<Surface>(this, canvas, new Idle())
    const again = () => this.invalidate()
    this.stops = [draft.subscribe(again), useSelection.subscribe(again)]
    canvas.addEventListener('wheel', this.wheel, { passive: false })
  }

  dispose(): void {
    this.canvas.removeEventListener('wheel', this.wheel)
    for (const stop of this.stops) stop()
  }

  get box(): Box {
    const [width, height] = this.size
    return { left: EDGE, top: RULER, width: width - 2 * EDGE, height: height - RULER }
  }

  resize(width: number, height: number): void {
    this.size = [width, height]
    this.canvas.width = Math.round(width * devicePixelRatio)
    this.canvas.height = Math.round(height * devicePixelRatio)
    this.draw()
  }

  show(content: Content): void {
    const old = this.content
    this.content = content
    if (old?.clip === content.clip && transport.rate !== this.rate)
      this.view = stretched(this.view, transport.rate / this.rate)
    else if (old?.clip !== content.clip || old.frames !== content.frames) this.frameAll()
    this.rate = transport.rate
    this.invalidate()
  }

  setScroll(top: number): void {
    this.scroll = top
    this.draw()
  }

  setView(view: View): void {
    this.view = view
    this.draw()
  }

  private frame(t0: number, t1: number): void {
    this.setView({ ...this.view, t0, t1 })
  }

  frameAll(): void {
    const frames = this.content?.frames ?? 100
    const edge = Math.max(1, frames * 0.01)
    this.frame(-edge, frames - 1 + edge)
  }

  frameRange(): void {
    const [first, last] = transport.range
    const edge = Math.max(1, (last - first) * 0.02)
    this.frame(first - edge, last + edge)
  }

  aroundNow(): void {
    const half = Math.max(0.5 * transport.rate, 4)
    this.frame(transport.frame - half, transport.frame + half)
  }

  /** The selected keys with room around them; without any, the range. */
  frameSelection(): void {
    const extent = this.extent()
    if (extent) {
      const room = Math.max((extent[1] - extent[0]) * 0.15, 4)
      this.frame(extent[0] - room, extent[1] + room)
    } else this.frameRange()
  }

  timeAt(x: number): number {
    return xToTime(this.view, this.box, x)
  }

  xAt(time: number): number {
    const { view, box } = this
    return box.left + ((time - view.t0) / (view.t1 - view.t0)) * box.width
  }

  /** Where a row's middle is. The first row stays on top however far one scrolls. */
  private middle(index: number): number {
    return RULER + (index + 0.5) * ROW - (index === 0 ? 0 : this.scroll)
  }

  private rowAt(y: number): Row | null {
    const rows = this.content?.rows ?? []
    if (y < RULER) return null
    if (y < RULER + ROW) return rows[0] ?? null
    return rows[Math.floor((y - RULER + this.scroll) / ROW)] ?? null
  }

  private curve = (key: ChannelKey): Curve | undefined =>
    draft.curves.get(key) ?? this.content?.curves.get(key)

  private union(row: Row): Union {
    let found = this.unions.get(row.id)
    if (!found) {
      // The body's is that of its parts, which are drawn as well.
      const parts = row.kind === 'body' ? this.content!.rows.filter((r) => r.kind === 'part') : []
      found = parts.length
        ? unionOfAll(parts.map((part) => this.union(part)))
        : unionOf(row.channels, this.curve, useSelection.getState().keys)
      this.unions.set(row.id, found)
    }
    return found
  }

  /** The key under the pointer, the nearest one of its row. */
  keyAt(at: At): KeyPlace | null {
    const row = this.rowAt(at.y)
    if (!row) return null
    const { time } = this.union(row)
    let near = NEAR
    let best: number | null = null
    for (const t of time) {
      const gap = Math.abs(this.xAt(t) - at.x)
      if (gap >= near) continue
      near = gap
      best = t
    }
    return best === null ? null : { row, time: best }
  }

  /** The keys of rows at times between two. */
  private keysWhere(rows: readonly Row[], from: number, to: number): Map<ChannelKey, Set<number>> {
    const out = new Map<ChannelKey, Set<number>>()
    for (const key of new Set(rows.flatMap((r) => r.channels))) {
      const curve = this.curve(key)
      if (curve?.kind !== 'keyed') continue
      const ids = new Set<number>()
      const own = idsOf(curve)
      curve.time.forEach((t, k) => {
        if (from <= t && t <= to) ids.add(own[k]!)
      })
      if (ids.size) out.set(key, ids)
    }
    return out
  }

  keysOf(place: KeyPlace): Map<ChannelKey, Set<number>> {
    return this.keysWhere([place.row], place.time, place.time)
  }

  protected pick(at: At): boolean {
    const place = this.keyAt(at)
    if (!place) return false
    const keys = this.keysOf(place)
    if (!allSelected(keys)) selectKeys(keys)
    return true
  }

  keysIn(area: Box): Map<ChannelKey, Set<number>> {
    const rows = (this.content?.rows ?? []).filter((_, n) => {
      const y = this.middle(n)
      return y + ROW / 2 > area.top && y - ROW / 2 < area.top + area.height && y > RULER
    })
    return this.keysWhere(rows, this.timeAt(area.left), this.timeAt(area.left + area.width))
  }

  /** First and last time of the selected keys; null without two of them apart. */
  extent(): [number, number] | null {
    const times = selectedTimes(this.curve)
    return times && times[1] > times[0] ? times : null
  }

  /** Which end of the bar over the selected keys is under the pointer. */
  gripAt(at: At): 'first' | 'last' | null {
    const extent = this.extent()
    if (!extent || at.y > RULER || at.y < RULER - 11) return null
    if (Math.abs(at.x - this.xAt(extent[0])) < NEAR) return 'first'
    return Math.abs(at.x - this.xAt(extent[1])) < NEAR ? 'last' : null
  }

  /** Time goes to a key that is picked: never working blind. */
  toTime(time: number): void {
    if (!this.follows) return
    transport.pause()
    transport.seek(time)
  }

  /** A press beside any key goes to its time. */
  click(at: At): void {
    this.toTime(this.timeAt(at.x))
  }

  showSlide(slide: Partial<Slide>): Slide {
    const whole = { ...STILL, ...slide }
    showSlide(whole)
    return whole
  }

  showBox(box: Box | null): void {
    this.boxShown = box
    this.draw()
  }

  hover(at: At): void {
    this.hovered = this.keyAt(at)
    const grip = this.gripAt(at)
    if (this.pointing.idle)
      this.canvas.style.cursor = grip ? 'ew-resize' : this.hovered ? 'grab' : 'default'
    this.readout()
  }

  private readout(): void {
    this.onReadout(this.hovered ? this.told(this.hovered) : '')
  }

  /** A row's key in words. */
  private told({ row, time }: KeyPlace): string {
    const union = this.union(row)
    const k = union.time.indexOf(time)
    if (k < 0) return ''
    const frame = Number(time.toFixed(4))
    const off = frame === Math.round(frame) ? '' : ', between frames'
    const of = row.kind === 'channel' ? '' : ` · ${union.count[k]} of ${union.keyed} channels`
    return `${row.label} · frame ${frame}${off}${of}`
  }

  leave(): void {
    this.hovered = null
    this.readout()
  }

  /** With Ctrl or over the ruler the wheel zooms time; to the side it pans. */
  private wheel = (event: WheelEvent): void => {
    const at = this.pointing.at(event)
    if (Math.abs(event.deltaX) > Math.abs(event.deltaY) || event.shiftKey) {
      event.preventDefault()
      const by = event.deltaX || event.deltaY
      const dt = (by / this.box.width) * (this.view.t1 - this.view.t0)
      this.setView({ ...this.view, t0: this.view.t0 + dt, t1: this.view.t1 + dt })
    } else if (at.ctrl || at.y < RULER) {
      event.preventDefault()
      this.setView(zoomTime(this.view, 1.0015 ** event.deltaY, this.timeAt(at.x)))
    }
  }

  invalidate(): void {
    this.unions.clear()
    this.draw()
  }

  draw = (): void => {
    if (this.asked) return
    this.asked = true
    requestAnimationFrame(() => {
      this.asked = false
      const [w, h] = this.size
      if (w < 2 || !this.content) return
      this.drawn++
      const g = this.canvas.getContext('2d')!
      g.setTransform(devicePixelRatio, 0, 0, devicePixelRatio, 0, 0)
      paint(g, w, h, this.painted())
      const { left, width } = this.box
      // Where things stand, for whoever drives the page without seeing it.
      this.canvas.dataset.view = [this.view.t0, this.view.t1, left, width].join(' ')
    })
  }

  private painted(): Painted {
    const { rows, dense } = this.content!
    const low = RULER - ROW
    const high = this.size[1] + ROW
    const seen = rows.flatMap((row, n) => {
      const y = this.middle(n)
      // Rows that have gone under the first one are not drawn over it.
      const under = n > 0 && y - ROW / 2 < RULER + ROW / 2
      return y < low || y > high || under ? [] : [{ row, y, union: this.union(row) }]
    })
    return {
      view: this.view,
      box: this.box,
      rows: seen,
      isDense: (row) => row.channels.every((key) => dense.has(key)),
      selected: this.extent(),
      drawnBox: this.boxShown,
    }
  }
}
