/** A span is painted over the curves: where thinning keeps closer to the take. */
import { usePainting } from '../../actions/painting'
import type { Surface } from '../surface'
import type { At, Tool } from './tool'

export class PaintingSpan implements Tool {
  readonly cursor = 'col-resize'

  constructor(private from: At) {}

  onMove(sheet: Surface, at: At): void {
    const { box } = sheet
    const [left, right] = [Math.min(this.from.x, at.x), Math.max(this.from.x, at.x)]
    sheet.showBox({ left, top: box.top, width: right - left, height: box.height })
  }

  onUp(sheet: Surface, at: At): void {
    sheet.showBox(null)
    const ends = [sheet.timeAt(this.from.x), sheet.timeAt(at.x)].map((t) =>
      Math.max(0, Math.round(t)),
    )
    usePainting.setState({ painted: { first: Math.min(...ends), last: Math.max(...ends) } })
  }

  onCancel(sheet: Surface): void {
    sheet.showBox(null)
  }
}
