/** A handle's end follows the pointer: its slope and its length. Joined handles turn together;
 * with Shift the two go their own ways, with Ctrl the length stays. */

import { shapeOf } from '../../actions/edits'
import type { KeyedCurve } from '../../evaluation/curves'
import type { Edits } from '../../evaluation/keys'
import { xToTime, yToValue } from '../../ui/geometry'
import type { HandlePlace, Surface } from '../surface'
import { KeyDrag } from './KeyDrag'
import type { At } from './tool'

export class DraggingHandle extends KeyDrag {
  readonly cursor = 'move'
  private curve: KeyedCurve

  constructor(
    sheet: Surface,
    from: At,
    private handle: HandlePlace,
  ) {
    super(from)
    this.curve = sheet.curve(handle.channel) as KeyedCurve
  }

  protected edit(sheet: Surface, at: At): Edits {
    const { channel, index: k, side, beyond } = this.handle
    const { view, box } = sheet.placeOf(channel)
    const { time, value } = this.curve
    const out = side === 'out'
    const span = out ? time[k + 1]! - time[k]! : time[k]! - time[k - 1]!
    const sign = out ? 1 : -1
    // A handle points away from its key, and no farther than its segment.
    const reach = Math.min(
      Math.max(sign * (xToTime(view, box, at.x - beyond[0]) - time[k]!), 0.02 * span),
      span,
    )
    const slope = (sign * (yToValue(view, box, at.y - beyond[1]) - value[k]!)) / reach
    const shape = shapeOf(this.curve, k)
    const broken = shape.broken || at.shift
    const length = at.ctrl ? shape[`length_${side}`] : reach / span
    return new Map([
      [
        channel,
        [
          {
            id: Number(this.curve.id[k]),
            frame: time[k]!,
            ...shape,
            [`slope_${side}`]: slope,
            [`length_${side}`]: length,
            ...(broken ? {} : { [`slope_${out ? 'in' : 'out'}`]: slope }),
            broken,
          },
        ],
      ],
    ])
  }
}
