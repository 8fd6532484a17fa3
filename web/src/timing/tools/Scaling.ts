/** The bar over the selected keys is pulled by an end: they are scaled in time about the other end,
 * with Shift about now. */

import { commitSlide } from '../../actions/edits'
import type { Slide } from '../../evaluation/sliding'
import type { At, Tool } from '../../sheet/tools/tool'
import { draft } from '../../view/draft'
import { transport } from '../../view/transport'
import type { Surface } from '../surface'

export class Scaling implements Tool<Surface> {
  readonly cursor = 'ew-resize'
  private ends: [number, number]
  private slide: Slide | null = null

  constructor(
    timing: Surface,
    private from: At,
    private grip: 'first' | 'last',
  ) {
    this.ends = timing.extent()!
  }

  onMove(timing: Surface, at: At): void {
    const [first, last] = this.ends
    const side = this.grip === 'first' ? first : last
    const other = this.grip === 'first' ? last : first
    const about = this.from.shift && transport.frame !== side ? transport.frame : other
    const to = at.alt ? timing.timeAt(at.x) : Math.round(timing.timeAt(at.x))
    // Keys never change their order.
    const factor = Math.max((to - about) / (side - about), 0.02)
    this.slide = timing.showSlide({ factor, about, whole_frames: !at.alt })
  }

  onUp(): void {
    if (this.slide) commitSlide(this.slide)
  }

  onCancel(): void {
    draft.drop()
  }
}
