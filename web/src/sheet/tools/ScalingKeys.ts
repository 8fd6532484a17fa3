/** The scale box: selected keys are scaled in time and value from one of its sides or corners,
 * about the opposite one, or about the pivot where one is set. */
import { editSelected, shapeOf } from '../../actions/edits'
import type { Edits } from '../../evaluation/keys'
import { xToTime, yToValue } from '../../ui/geometry'
import { useSelection } from '../../view/selection'
import type { Extent, Grip, Surface } from '../surface'
import { KeyDrag } from './KeyDrag'
import type { At } from './tool'

/** A selected key's time, value and handles scaled about a point. */
export function scaled(
  factor: { time: number; value: number },
  about: { time: number; value: number },
  whole: boolean,
): Edits {
  const { time: st, value: sv } = factor
  return editSelected((curve, k) => {
    const t = about.time + (curve.time[k]! - about.time) * st
    const shape = shapeOf(curve, k)
    const steeper = sv / st
    return {
      ...(st !== 1 ? { time: Math.max(whole ? Math.round(t) : t, 0) } : {}),
      ...(sv !== 1 ? { value: about.value + (curve.value[k]! - about.value) * sv } : {}),
      // Handles that set themselves follow their keys; free ones keep the scaled shape.
      ...(curve.handle[k] === 5
        ? { ...shape, slope_in: shape.slope_in * steeper, slope_out: shape.slope_out * steeper }
        : {}),
    }
  })
}

export class ScalingKeys extends KeyDrag {
  readonly cursor = 'nwse-resize'
  private extent: Extent
  private about: { time: number; value: number }

  constructor(
    sheet: Surface,
    from: At,
    private grip: Grip,
  ) {
    super(from)
    this.extent = sheet.extent()!
    const { pivot } = useSelection.getState()
    this.about = {
      time: pivot.time ?? (grip.time < 0 ? this.extent.t1 : this.extent.t0),
      value: pivot.value ?? (grip.value < 0 ? this.extent.v1 : this.extent.v0),
    }
  }

  protected edit(sheet: Surface, at: At): Edits {
    const { view, box } = sheet
    const { t0, t1, v0, v1 } = this.extent
    const factor = { time: 1, value: 1 }
    if (this.grip.time) {
      const side = this.grip.time < 0 ? t0 : t1
      const to = xToTime(view, box, at.x)
      const wanted = at.alt ? to : Math.round(to)
      // Keys never change their order.
      factor.time = Math.max((wanted - this.about.time) / (side - this.about.time || 1), 0.02)
    }
    if (this.grip.value) {
      const side = this.grip.value < 0 ? v0 : v1
      factor.value = (yToValue(view, box, at.y) - this.about.value) / (side - this.about.value || 1)
    }
    return scaled(factor, this.about, !at.alt)
  }
}
