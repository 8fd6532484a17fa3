/** A brush is held down: pull follows the pointer from where it began, calm and restore work
 * wherever it goes. */

import { commitStroke, showStroke } from '../../actions/edits'
import type { Stroke } from '../../evaluation/brush'
import { draft } from '../../view/draft'
import { useBrush } from '../brushState'
import type { Surface } from '../surface'
import { type At, moved, type Tool } from './tool'

export class Brushing implements Tool {
  readonly cursor = 'crosshair'
  private stroke: Stroke
  private began = false
  private view

  constructor(
    sheet: Surface,
    private from: At,
  ) {
    const { kind, radius, strength } = useBrush.getState()
    const middle = sheet.timeAt(from.x)
    this.stroke = {
      kind: kind!,
      radius,
      dabs: [{ frame: middle, strength }],
      by: 0,
      by_frames: 0,
    }
    // One scale for all the channels that are pulled: that of the curve under the pointer.
    this.view = sheet.placeOf(sheet.nearest(from) ?? '')
    if (kind !== 'pull') this.show(sheet)
  }

  private show(sheet: Surface): void {
    this.began = true
    showStroke(this.stroke, sheet.take)
  }

  onMove(sheet: Surface, at: At): void {
    sheet.hover(at)
    if (this.stroke.kind === 'pull') {
      if (!this.began && !moved(this.from, at)) return
      const { axis, strength } = useBrush.getState()
      const { view, box } = this.view
      const by = ((this.from.y - at.y) / box.height) * (view.v1 - view.v0)
      const later = ((at.x - this.from.x) / box.width) * (view.t1 - view.t0)
      this.stroke = {
        ...this.stroke,
        dabs: [{ ...this.stroke.dabs[0]!, strength: 1 }],
        by: axis === 'time' ? 0 : strength * by,
        by_frames: axis === 'value' ? 0 : strength * later,
      }
      this.show(sheet)
      return
    }
    const { radius, strength } = useBrush.getState()
    const frame = sheet.timeAt(at.x)
    const last = this.stroke.dabs.at(-1)!
    // A dab each quarter of the radius: slow or fast, a stroke does the same.
    if (Math.abs(frame - last.frame) < radius / 4 || this.stroke.dabs.length > 1000) return
    this.stroke = { ...this.stroke, dabs: [...this.stroke.dabs, { frame, strength }] }
    this.show(sheet)
  }

  onUp(): void {
    if (this.began) commitStroke(this.stroke)
  }

  onCancel(): void {
    draft.drop()
  }
}
