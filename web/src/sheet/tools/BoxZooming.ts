/** A box is drawn; on release the view becomes what is in it. */
import { xToTime, yToValue } from '../../ui/geometry'
import type { Surface } from '../surface'
import { type At, boxOf, type Tool } from './tool'

export class BoxZooming implements Tool {
  readonly cursor = 'zoom-in'

  constructor(private from: At) {}

  onMove(sheet: Surface, at: At): void {
    sheet.showBox(boxOf(this.from, at))
  }

  onUp(sheet: Surface, at: At): void {
    sheet.showBox(null)
    const { left, top, width, height } = boxOf(this.from, at)
    if (width > 5 && height > 5) {
      const { view, box } = sheet
      sheet.setView({
        t0: xToTime(view, box, left),
        t1: xToTime(view, box, left + width),
        v0: yToValue(view, box, top + height),
        v1: yToValue(view, box, top),
      })
    }
  }

  onCancel(sheet: Surface): void {
    sheet.showBox(null)
  }
}
