/** Plants' places taken hold of on the stage, and moved level over their floor. */
import type { Vector3 } from 'three'
import { changePlant, choosePlant } from '../actions/plants'
import type { Plant } from '../evaluation/model'
import { useBench } from '../view/bench'
import type { Eye } from './Eye'
import { listen } from './held'
import { onLevel } from './level'
import type { Stage } from './Stage'

export class PlaceHand {
  private held: { plant: Plant; from: Vector3; start: Vector3; moved: boolean } | null = null
  readonly dispose: () => void

  constructor(private stage: Stage) {
    this.dispose = listen(stage.eyes, {
      down: (eye, event) => this.down(eye, event),
      move: (eye, event) => this.move(eye, event),
      up: () => this.up(),
    })
  }

  private down(eye: Eye, event: PointerEvent): void {
    const { places } = this.stage
    const found = event.button === 0 ? places.pick(eye, event.offsetX, event.offsetY) : null
    if (!found) return
    event.stopImmediatePropagation()
    event.preventDefault()
    choosePlant(found.plant)
    // A place in a joint's own axes is moved by its numbers.
    if (found.plant.with_joint || found.plant.with_prop) return
    eye.element.setPointerCapture(event.pointerId)
    const from = places.group.localToWorld(found.at.clone())
    const start = onLevel(eye, event, from)
    if (start) this.held = { plant: found.plant, from, start, moved: false }
  }

  private move(eye: Eye, event: PointerEvent): void {
    const { held } = this
    if (!held) return
    const now = onLevel(eye, event, held.from)
    if (!now) return
    held.moved = true
    const { group } = this.stage.places
    const to = group.worldToLocal(held.from.clone().add(now).sub(held.start))
    const by = to.sub(group.worldToLocal(held.from.clone()))
    this.stage.places.dragged = { plant: held.plant, by }
    this.stage.refresh()
  }

  private up(): void {
    const { held } = this
    const dragged = this.stage.places.dragged
    this.held = null
    this.stage.places.dragged = null
    if (!held?.moved || !dragged) return
    const up = 'xyz'.indexOf(useBench.getState().clip!.reading.up_axis)
    const move = dragged.by.setComponent(up, 0).toArray() as [number, number, number]
    void changePlant(held.plant, { move })
  }

  /** Escape: the place stays where it is. */
  cancel(): boolean {
    if (!this.held) return false
    this.held = null
    this.stage.places.dragged = null
    this.stage.refresh()
    return true
  }
}
