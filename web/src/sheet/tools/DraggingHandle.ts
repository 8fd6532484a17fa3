/** A handle's end follows the pointer: its slope and its length. Joined handles turn together;
 * with Shift the two go their own ways, with Ctrl the length stays. */
import type { KeyedCurve } from '../../clip/curves'
import { draft } from '../../clip/draft'
import { commitEdits, shapeOf, showEdits } from '../../clip/hand'
import type { Edits } from '../../clip/keys'
import { xToTime, yToValue } from '../geometry'
import type { HandlePlace, Sheet } from '../Sheet'
import { Idle } from './Idle'
import { type At, moved, type Tool } from './tool'

export class DraggingHandle implements Tool {
  readonly cursor = 'move'
  private edits: Edits | null = null
  private curve: KeyedCurve

  constructor(
    sheet: Sheet,
    private from: At,
    private handle: HandlePlace,
  ) {
    this.curve = sheet.curve(handle.channel) as KeyedCurve
  }

  onMove(sheet: Sheet, at: At): void {
    if (!this.edits && !moved(this.from, at)) return
    const { channel, index: k, side } = this.handle
    const { view, box } = sheet.placeOf(channel)
    const { time, value } = this.curve
    const out = side === 'out'
    const span = out ? time[k + 1]! - time[k]! : time[k]! - time[k - 1]!
    const sign = out ? 1 : -1
    // A handle points away from its key, and no farther than its segment.
    const reach = Math.min(
      Math.max(sign * (xToTime(view, box, at.x) - time[k]!), 0.02 * span),
      span,
    )
    const slope = (sign * (yToValue(view, box, at.y) - value[k]!)) / reach
    const shape = shapeOf(this.curve, k)
    const broken = shape.broken || at.shift
    const length = at.ctrl ? shape[`length_${side}`] : reach / span
    this.edits = new Map([
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
    showEdits(this.edits)
  }

  onUp(): Tool {
    if (this.edits) void commitEdits(this.edits)
    return new Idle()
  }

  onCancel(): void {
    draft.drop()
  }
}
