/** A box is drawn: the keys in it are selected. A press that does not move goes to its time. */
import { addKeys, clearKeys, selectKeys } from '../../clip/selection'
import type { Sheet } from '../Sheet'
import { type At, boxOf, moved, type Tool } from './tool'

export class BoxSelecting implements Tool {
  readonly cursor = 'crosshair'
  private dragging = false

  constructor(private from: At) {}

  onMove(sheet: Sheet, at: At): void {
    this.dragging ||= moved(this.from, at)
    if (this.dragging) sheet.showBox(boxOf(this.from, at))
  }

  onUp(sheet: Sheet, at: At): void {
    sheet.showBox(null)
    if (this.dragging) {
      const inside = sheet.keysIn(boxOf(this.from, at))
      if (this.from.shift) addKeys(inside)
      else selectKeys(inside)
    } else {
      if (!this.from.shift) clearKeys()
      sheet.click(at)
    }
  }

  onCancel(sheet: Sheet): void {
    sheet.showBox(null)
  }
}
