/** Selected keys follow the pointer: on whole frames unless Alt is held, along one axis with Shift,
 * up to a key that stays, or past it where that is asked for. */
import { editSelected, roomToMove } from '../../actions/edits'
import type { Edits } from '../../evaluation/keys'
import { useViewing } from '../../view/viewing'
import type { KeyPlace, Surface } from '../surface'
import { KeyDrag } from './KeyDrag'
import type { At } from './tool'

export class MovingKeys extends KeyDrag {
  readonly cursor = 'move'
  private room: [number, number]
  private passes = useViewing.getState().passes

  constructor(
    sheet: Surface,
    from: At,
    private grabbed: KeyPlace,
  ) {
    super(from)
    this.room = roomToMove(this.passes)
    sheet.toKey(grabbed)
  }

  protected edit(sheet: Surface, at: At): Edits {
    const { view, box } = sheet.placeOf(this.grabbed.channel)
    let dt = ((at.x - this.from.x) / box.width) * (view.t1 - view.t0)
    let share = (this.from.y - at.y) / box.height
    if (at.shift) {
      if (Math.abs(at.x - this.from.x) > Math.abs(at.y - this.from.y)) share = 0
      else dt = 0
    }
    if (!at.alt) dt = Math.round(this.grabbed.time + dt) - this.grabbed.time
    dt = Math.min(Math.max(dt, this.room[0]), this.room[1])
    sheet.followKey(this.grabbed, dt)
    return editSelected((curve, k, key) => {
      // In bands each channel has a scale of its own.
      const own = sheet.placeOf(key).view
      const dv = share * (own.v1 - own.v0)
      const value = sheet.snapped(curve.value[k]! + dv)
      return {
        ...(dt !== 0 ? { time: curve.time[k]! + dt, ...(this.passes ? { past: true } : {}) } : {}),
        ...(share !== 0 ? { value } : {}),
      }
    })
  }

  override onCancel(sheet: Surface): void {
    super.onCancel(sheet)
    sheet.toKey(this.grabbed)
  }
}
