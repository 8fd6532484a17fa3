/** The keys of the selected joints on the strip: a stretch of them is selected by a drag, moved by
 * its middle, scaled by an end. Copying, pasting and deleting are commands on what is selected. */

import { commitSlide, roomToMove, STILL, showSlide, workedOn } from '../actions/edits'
import type { Slide } from '../evaluation/sliding'
import { useBench } from '../view/bench'
import { draft } from '../view/draft'
import { clearKeys, keysWhere, selectedTimes, selectKeys } from '../view/selection'
import { transport } from '../view/transport'
import { EDGE, type LaneHand, type Scale } from './laneHand'

type Hold =
  | { what: 'select'; from: number; to: number; moved: boolean }
  | { what: 'move'; from: number; room: [number, number]; slide: Slide | null }
  | { what: 'scale'; side: number; about: number; slide: Slide | null }

export class KeysHand implements LaneHand {
  private hold: Hold | null = null

  /** The stretch that is being drawn, or that of the selected keys. */
  stretch(): [number, number] | null {
    if (this.hold?.what === 'select') {
      const { from, to } = this.hold
      return [Math.min(from, to), Math.max(from, to)]
    }
    const { curves } = useBench.getState()
    return selectedTimes((key) => draft.curves.get(key) ?? curves.get(key))
  }

  private part(x: number, scale: Scale): 'first' | 'last' | 'inside' | null {
    const stretch = this.stretch()
    if (!stretch) return null
    const [a, b] = stretch.map(scale.x) as [number, number]
    if (b - a > 2 * EDGE) {
      if (Math.abs(x - a) <= EDGE) return 'first'
      if (Math.abs(x - b) <= EDGE) return 'last'
    }
    return a - EDGE <= x && x <= b + EDGE ? 'inside' : null
  }

  down(x: number, scale: Scale): boolean {
    const part = this.part(x, scale)
    const frame = scale.frame(x)
    const stretch = this.stretch()
    if (part === 'inside')
      this.hold = { what: 'move', from: frame, room: roomToMove(), slide: null }
    else if (part && stretch) {
      const [side, about] = part === 'first' ? stretch : [stretch[1], stretch[0]]
      this.hold = { what: 'scale', side, about, slide: null }
    } else this.hold = { what: 'select', from: frame, to: frame, moved: false }
    return true
  }

  move(x: number, scale: Scale): void {
    const { hold } = this
    if (!hold) return
    const frame = scale.frame(x)
    if (hold.what === 'select') {
      hold.moved ||= Math.abs(scale.x(hold.from) - x) > 3
      hold.to = frame
      return
    }
    if (hold.what === 'move') {
      const [low, high] = hold.room
      const by = Math.min(Math.max(Math.round(frame - hold.from), low), high)
      if (!hold.slide && by === 0) return
      hold.slide = { ...STILL, by }
    } else {
      const factor = Math.max((Math.round(frame) - hold.about) / (hold.side - hold.about), 0.02)
      hold.slide = { ...STILL, factor, about: hold.about }
    }
    showSlide(hold.slide)
  }

  up(): void {
    const { hold } = this
    this.hold = null
    if (!hold) return
    if (hold.what !== 'select') {
      if (hold.slide) commitSlide(hold.slide)
      else if (hold.what === 'move') transport.seek(hold.from)
      return
    }
    if (!hold.moved) {
      clearKeys()
      transport.seek(hold.from)
      return
    }
    const [low, high] = [Math.min(hold.from, hold.to), Math.max(hold.from, hold.to)]
    const { curves } = useBench.getState()
    selectKeys(
      keysWhere(curves, workedOn(), (curve, k) => low <= curve.time[k]! && curve.time[k]! <= high),
    )
  }

  cancel(): void {
    this.hold = null
    draft.drop()
  }

  cursor(x: number, scale: Scale): string {
    const part = this.part(x, scale)
    return part === 'inside' ? 'grab' : part ? 'col-resize' : 'crosshair'
  }
}
