/** Selected keys follow the pointer: on whole frames unless Alt is held, along one axis with Shift,
 * never past a key that stays. */
import { draft } from '../../clip/draft'
import { commitEdits, editSelected, showEdits } from '../../clip/hand'
import type { Edits } from '../../clip/keys'
import { useSelection } from '../../clip/selection'
import type { KeyPlace, Sheet } from '../Sheet'
import { Idle } from './Idle'
import { type At, moved, type Tool } from './tool'

export class MovingKeys implements Tool {
  readonly cursor = 'move'
  private edits: Edits | null = null
  private room: [number, number]

  constructor(
    private sheet: Sheet,
    private from: At,
    private grabbed: KeyPlace,
  ) {
    this.room = roomToMove(sheet)
    sheet.toKey(grabbed)
  }

  onMove(sheet: Sheet, at: At): void {
    if (!this.edits && !moved(this.from, at)) return
    const { view, box } = sheet.placeOf(this.grabbed.channel)
    let dt = ((at.x - this.from.x) / box.width) * (view.t1 - view.t0)
    let share = (this.from.y - at.y) / box.height
    if (at.shift) {
      if (Math.abs(at.x - this.from.x) > Math.abs(at.y - this.from.y)) share = 0
      else dt = 0
    }
    if (!at.alt) dt = Math.round(this.grabbed.time + dt) - this.grabbed.time
    dt = Math.min(Math.max(dt, this.room[0]), this.room[1])
    this.edits = editSelected((curve, k, key) => {
      // In bands each channel has a scale of its own.
      const own = sheet.placeOf(key).view
      const dv = share * (own.v1 - own.v0)
      const value = sheet.snapped(curve.value[k]! + dv)
      return {
        ...(dt !== 0 ? { time: curve.time[k]! + dt } : {}),
        ...(share !== 0 ? { value } : {}),
      }
    })
    showEdits(this.edits)
    sheet.followKey(this.grabbed, dt)
  }

  onUp(): Tool {
    if (this.edits) void commitEdits(this.edits)
    return new Idle()
  }

  onCancel(): void {
    draft.drop()
    this.sheet.toKey(this.grabbed)
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
