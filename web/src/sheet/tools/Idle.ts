/** Nothing is held: hovering reads out, a press chooses the next state. */

import { usePainting } from '../../actions/painting'
import { notify } from '../../view/bench'
import { selectKeys, toggleKey, useSelection } from '../../view/selection'
import type { Surface } from '../surface'
import { BoxSelecting } from './BoxSelecting'
import { BoxZooming } from './BoxZooming'
import { Brushing } from './Brushing'
import { DraggingHandle } from './DraggingHandle'
import { DraggingTime } from './DraggingTime'
import { MovingKeys } from './MovingKeys'
import { MovingPivot } from './MovingPivot'
import { PaintingSpan } from './PaintingSpan'
import { Panning } from './Panning'
import { ScalingKeys } from './ScalingKeys'
import { ScalingValues } from './ScalingValues'
import { SizingBrush } from './SizingBrush'
import type { At, Resting, Tool } from './tool'

export class Idle implements Resting<Surface> {
  readonly cursor = 'default'

  onDown(sheet: Surface, at: At): Tool {
    const where = sheet.region(at)
    if (at.button === 1 || (at.alt && where === 'field')) return new Panning(sheet, at)
    if (where === 'ruler') return new DraggingTime(sheet, at)
    if (where === 'gutter') return new ScalingValues(sheet, at)
    if (usePainting.getState().on) return new PaintingSpan(at)
    if (sheet.brush && sheet.previewed) {
      notify('A preview is shown: apply or discard it before the curves are changed by hand.')
      return this
    }
    if (sheet.brush) return at.ctrl ? new SizingBrush(at) : new Brushing(sheet, at)
    if (at.ctrl) return new BoxZooming(at)
    const handle = sheet.handleAt(at)
    if (handle) return new DraggingHandle(sheet, at, handle)
    if (sheet.pivotAt(at)) return new MovingPivot()
    const grip = sheet.gripAt(at)
    if (grip) return new ScalingKeys(sheet, at, grip)
    const key = sheet.keyAt(at)
    if (key) {
      const chosen = useSelection.getState().keys.get(key.channel)?.has(key.id) ?? false
      if (at.shift) toggleKey(key.channel, key.id)
      else if (!chosen) selectKeys(new Map([[key.channel, new Set([key.id])]]))
      if (!at.shift || !chosen) return new MovingKeys(sheet, at, key)
      return this
    }
    if (where === 'now') return new DraggingTime(sheet, at)
    return new BoxSelecting(at)
  }

  onMove(sheet: Surface, at: At): void {
    sheet.hover(at)
  }

  onUp(): void {}

  onCancel(): void {}
}
