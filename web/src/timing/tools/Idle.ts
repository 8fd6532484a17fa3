/** Nothing is held: hovering reads out, a press chooses the next state. */

import { BoxSelecting } from '../../sheet/tools/BoxSelecting'
import { DraggingTime } from '../../sheet/tools/DraggingTime'
import { Panning } from '../../sheet/tools/Panning'
import type { At, Resting, Tool } from '../../sheet/tools/tool'
import { notify, useBench } from '../../view/bench'
import { addKeys, allSelected, selectKeys, useSelection } from '../../view/selection'
import { RULER, type Surface } from '../surface'
import { Moving } from './Moving'
import { Scaling } from './Scaling'

export class Idle implements Resting<Surface> {
  readonly cursor = 'default'

  onDown(timing: Surface, at: At): Tool<Surface> {
    if (at.button === 1 || at.alt) return new Panning(timing, at)
    const grip = timing.gripAt(at)
    if (grip) return new Scaling(timing, at, grip)
    if (at.y < RULER) return new DraggingTime(timing, at)
    if (useBench.getState().preview) {
      notify('A preview is shown: apply or discard it before keys are moved by hand.')
      return this
    }
    const place = timing.keyAt(at)
    if (!place) return new BoxSelecting(at)
    const keys = timing.keysOf(place)
    const { keys: chosen } = useSelection.getState()
    const all = allSelected(keys)
    if (at.shift) {
      if (all) selectKeys(without(chosen, keys))
      else addKeys(keys)
      return this
    }
    if (!all) selectKeys(keys)
    return new Moving(timing, at, place.time)
  }

  onMove(timing: Surface, at: At): void {
    timing.hover(at)
  }

  onUp(): void {}

  onCancel(): void {}
}

function without(
  chosen: ReadonlyMap<string, ReadonlySet<number>>,
  gone: ReadonlyMap<string, ReadonlySet<number>>,
): Map<string, Set<number>> {
  return new Map(
    [...chosen].map(([key, ids]) => [
      key,
      new Set([...ids].filter((id) => !gone.get(key)?.has(id))),
    ]),
  )
}
