/** Selected keys follow the pointer: on whole frames unless Alt is held, along one axis with Shift,
 * never past a key that stays. */
import { editSelected } from '../../clip/hand'
import type { Edits } from '../../clip/keys'
import { useSelection } from '../../clip/selection'
import type { KeyPlace, Sheet } from '../Sheet'
import { KeyDrag } from './KeyDrag'
import type { At } from './tool'

export class MovingKeys extends KeyDrag {
  readonly cursor = 'move'
  private room: [number, number]

  constructor(
    sheet: Sheet,
    from: At,
    private grabbed: KeyPlace,
  ) {
    super(from)
    this.room = roomToMove(sheet)
    sheet.toKey(grabbed)
  }

  protected edit(sheet: Sheet, at: At): Edits {
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
        ...(dt !== 0 ? { time: curve.time[k]! + dt } : {}),
        ...(share !== 0 ? { value } : {}),
      }
    })
  }

  override onCancel(sheet: Sheet): void {
    super.onCancel(sheet)
    sheet.toKey(this.grabbed)
  }
}

/** How far the selected keys may move in time, before they would meet a key that stays. */
function roomToMove(sheet: Sheet): [number, number] {
  const gap = 1
  let low = Number.NEGATIVE_INFINITY
  let high = Number.POSITIVE_INFINITY
  for (const [key, ids] of useSelection.getState().keys) {
    const curve = sheet.curve(key)
    if (curve?.kind !== 'keyed') continue
    const count = curve.time.length
    for (let k = 0; k < count; k++) {
      if (!ids.has(Number(curve.id[k]))) continue
      const t = curve.time[k]!
      low = Math.max(low, -t)
      if (k > 0 && !ids.has(Number(curve.id[k - 1])))
        low = Math.max(low, Math.min(curve.time[k - 1]! + gap - t, 0))
      if (k + 1 < count && !ids.has(Number(curve.id[k + 1])))
        high = Math.min(high, Math.max(curve.time[k + 1]! - gap - t, 0))
    }
  }
  return [low, high]
}
