/** A box is drawn: the keys in it are selected. A press that does not move goes to its time. */

import type { ChannelKey } from '../../evaluation/curves'
import type { Box } from '../../ui/geometry'
import { addKeys, clearKeys, selectKeys } from '../../view/selection'
import { type At, boxOf, moved, type Tool } from './tool'

interface Boxed {
  showBox: (box: Box | null) => void
  keysIn: (area: Box) => Map<ChannelKey, Set<number>>
  /** A press that did not move. */
  click: (at: At) => void
}

export class BoxSelecting implements Tool<Boxed> {
  readonly cursor = 'crosshair'
  private dragging = false

  constructor(private from: At) {}

  onMove(sheet: Boxed, at: At): void {
    this.dragging ||= moved(this.from, at)
    if (this.dragging) sheet.showBox(boxOf(this.from, at))
  }

  onUp(sheet: Boxed, at: At): void {
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

  onCancel(sheet: Boxed): void {
    sheet.showBox(null)
  }
}
