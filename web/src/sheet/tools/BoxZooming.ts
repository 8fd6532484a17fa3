/** A box is drawn; on release the view becomes what is in it. */
import { xToTime, yToValue } from '../geometry'
import type { Sheet } from '../Sheet'
import { Idle } from './Idle'
import type { At, Tool } from './tool'

export class BoxZooming implements Tool {
  readonly cursor = 'crosshair'

  constructor(private from: At) {}

  onMove(sheet: Sheet, at: At): void {
    sheet.showBox({
      left: Math.min(this.from.x, at.x),
      top: Math.min(this.from.y, at.y),
      width: Math.abs(at.x - this.from.x),
      height: Math.abs(at.y - this.from.y),
    })
  }

  onUp(sheet: Sheet, at: At): Tool {
    sheet.showBox(null)
    if (Math.abs(at.x - this.from.x) > 5 && Math.abs(at.y - this.from.y) > 5) {
      const { view, box } = sheet
      const [left, right] = [Math.min(at.x, this.from.x), Math.max(at.x, this.from.x)]
      const [top, bottom] = [Math.min(at.y, this.from.y), Math.max(at.y, this.from.y)]
      sheet.setView({
        t0: xToTime(view, box, left),
        t1: xToTime(view, box, right),
        v0: yToValue(view, box, bottom),
        v1: yToValue(view, box, top),
      })
    }
    return new Idle()
  }

  onCancel(sheet: Sheet): void {
    sheet.showBox(null)
  }
}
