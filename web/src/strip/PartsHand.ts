/** The clips of a join on the strip: an end that is dragged is left, or entered, sooner or later. */
import { keepWish, meet, type Seam, seamsOf, showJoin, useJoining } from '../actions/joining'
import { useBench } from '../view/bench'
import { transport } from '../view/transport'
import { EDGE, type LaneHand, type Scale } from './laneHand'
import type { PartBar } from './lanes'

interface Held {
  /** The bar whose end is dragged, which end, and by how many frames so far. */
  bar: PartBar
  end: 'first' | 'last'
  from: number
  by: number
  seam: Seam
  number: number
  putBack: () => void
}

export class PartsHand implements LaneHand {
  private bars: readonly PartBar[] = []
  held: Held | null = null

  /** The same hand, over these bars. */
  over(bars: readonly PartBar[]): PartsHand {
    this.bars = bars
    return this
  }

  private near(x: number, scale: Scale): Omit<Held, 'from' | 'by' | 'putBack'> | null {
    const seams = seamsOf(useBench.getState().preview, useJoining.getState().standing)
    for (const [k, bar] of this.bars.entries())
      for (const end of ['first', 'last'] as const) {
        const number = end === 'first' ? k - 1 : k
        const seam = seams[number]
        if (seam && Math.abs(scale.x(bar[end]) - x) <= EDGE) return { bar, end, seam, number }
      }
    return null
  }

  down(x: number, scale: Scale): boolean {
    const found = this.near(x, scale)
    if (!found) return false
    this.held = { ...found, from: scale.frame(x), by: 0, putBack: keepWish() }
    return true
  }

  move(x: number, scale: Scale): void {
    const { held } = this
    if (!held) return
    const { seam, number, end } = held
    // No further than the part's own frames go.
    const own = end === 'first' ? seam.enter : seam.leave
    held.by = Math.max(Math.round(scale.frame(x) - held.from), -own)
    if (end === 'first') held.by = Math.min(held.by, seam.count - 1 - seam.enter)
    meet(
      number,
      end === 'first'
        ? { leave: seam.leave, enter: seam.enter + held.by }
        : { leave: seam.leave + held.by, enter: seam.enter },
    )
    transport.seek(held.bar[end] + held.by)
  }

  up(): void {
    if (this.held?.by) showJoin()
    this.held = null
  }

  cancel(): void {
    this.held?.putBack()
    this.held = null
  }

  cursor(x: number, scale: Scale): string {
    return this.near(x, scale) ? 'col-resize' : ''
  }
}
