/** A box over rows and times selects their keys; a press that does not move goes to its time. */
import { addKeys, clearKeys, selectKeys } from '../../clip/selection'
import { type At, boxOf, moved, type Tool } from '../../sheet/tools/tool'
import type { Timing } from '../Timing'

export class BoxSelecting implements Tool<Timing> {
  readonly cursor = 'crosshair'
  private dragging = false

  constructor(private from: At) {}

  onMove(timing: Timing, at: At): void {
    this.dragging ||= moved(this.from, at)
    if (this.dragging) timing.showBox(boxOf(this.from, at))
  }

  onUp(timing: Timing, at: At): void {
    timing.showBox(null)
    if (!this.dragging) {
      if (!this.from.shift) clearKeys()
      timing.toTime(timing.timeAt(at.x))
      return
    }
    const inside = timing.keysIn(boxOf(this.from, at))
    if (this.from.shift) addKeys(inside)
    else selectKeys(inside)
  }

  onCancel(timing: Timing): void {
    timing.showBox(null)
  }
}
