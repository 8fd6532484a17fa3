/** Nothing is held: hovering reads out, a press chooses the next state. */
import type { Sheet } from '../Sheet'
import { BoxZooming } from './BoxZooming'
import { DraggingTime } from './DraggingTime'
import { Panning } from './Panning'
import { ScalingValues } from './ScalingValues'
import type { At, Tool } from './tool'

export class Idle implements Tool {
  readonly cursor = 'default'

  onDown(sheet: Sheet, at: At): Tool {
    const where = sheet.region(at)
    if (where === 'ruler' || where === 'now') return new DraggingTime(sheet, at)
    if (where === 'gutter') return new ScalingValues(sheet, at)
    if (at.shift) return new BoxZooming(at)
    return new Panning(sheet, at)
  }

  onMove(sheet: Sheet, at: At): void {
    sheet.hover(at)
  }

  onUp(): Tool {
    return this
  }

  onCancel(): void {}
}
