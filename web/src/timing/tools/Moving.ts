/** The selected keys follow the pointer in time, or with Ctrl copies of them: on whole frames unless
 * Alt is held, never past a key that stays. */

import { commitSlide, roomToMove } from '../../actions/edits'
import type { Slide } from '../../evaluation/sliding'
import { type At, moved, type Tool } from '../../sheet/tools/tool'
import { draft } from '../../view/draft'
import type { Surface } from '../surface'

export class Moving implements Tool<Surface> {
  readonly cursor = 'grabbing'
  private room = roomToMove()
  private slide: Slide | null = null

  constructor(
    timing: Surface,
    private from: At,
    private time: number,
  ) {
    timing.toTime(time)
  }

  onMove(timing: Surface, at: At): void {
    if (!this.slide && !moved(this.from, at)) return
    let by = timing.timeAt(at.x) - timing.timeAt(this.from.x)
    if (!at.alt) by = Math.round(by)
    const copies = this.from.ctrl
    if (!copies) by = Math.min(Math.max(by, this.room[0]), this.room[1])
    this.slide = timing.showSlide({ by, copies, whole_frames: !at.alt })
    timing.toTime(this.time + by)
  }

  onUp(): void {
    if (this.slide) commitSlide(this.slide)
  }

  onCancel(timing: Surface): void {
    draft.drop()
    timing.toTime(this.time)
  }
}
