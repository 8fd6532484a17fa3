/** The clip that follows taken hold of on the stage: moved over the floor, with Shift turned. */
import { Vector3 } from 'three'
import { keepWish, laidAt, layPart, useJoining } from '../actions/joining'
import type { Fit } from '../evaluation/fit'
import { useBench } from '../view/bench'
import type { Eye } from './Eye'
import { listen } from './held'
import { onLevel } from './level'
import type { Stage } from './Stage'

const REACH = 16 // pixels
const TURN = 0.5 // degrees a pixel

interface Held {
  fit: Fit
  /** Where it was taken hold of, in metres, and on the view. */
  from: Vector3
  start: Vector3
  x: number
  /** What it turns about: where its hips stand, in the clip's unit. */
  about: Vector3
  putBack: () => void
}

export class MeetHand {
  private held: Held | null = null
  readonly dispose: () => void

  constructor(private stage: Stage) {
    this.dispose = listen(stage.eyes, {
      down: (eye, event) => this.down(eye, event),
      move: (eye, event) => this.move(eye, event),
      up: () => {
        this.held = null
      },
    })
  }

  private down(eye: Eye, event: PointerEvent): void {
    const { clip } = useBench.getState()
    const { pairs, over } = useJoining.getState()
    if (event.button !== 0 || !clip || !pairs || !over) return
    const points = this.stage.guestPoints()
    const near = points.find((point) => {
      const [x, y] = eye.project(point)
      return Math.hypot(x - event.offsetX, y - event.offsetY) < REACH
    })
    const start = near && onLevel(eye, event, near)
    if (!near || !start) return
    event.stopImmediatePropagation()
    event.preventDefault()
    eye.element.setPointerCapture(event.pointerId)
    const about = this.stage.inUnits(points[0]!)
    const fit = laidAt(clip, pairs, over)
    this.held = { fit, from: near, start, x: event.offsetX, about, putBack: keepWish() }
  }

  private move(eye: Eye, event: PointerEvent): void {
    const { held } = this
    const { clip } = useBench.getState()
    const { pairs } = useJoining.getState()
    if (!held || !clip || !pairs) return
    const up = 'xyz'.indexOf(clip.reading.up_axis)
    if (event.shiftKey) {
      const turn = ((event.offsetX - held.x) * TURN * Math.PI) / 180
      const axis = new Vector3().setComponent(up, 1)
      // About the point where it stands, which stays.
      const by = new Vector3(...held.fit.by).sub(held.about).applyAxisAngle(axis, turn)
      const to = by.add(held.about).toArray() as Fit['by']
      layPart(clip, pairs.seam, { turn: held.fit.turn + turn, by: to })
      return
    }
    const now = onLevel(eye, event, held.from)
    if (!now) return
    const moved = this.stage.inUnits(held.from.clone().add(now).sub(held.start))
    const by = moved.sub(this.stage.inUnits(held.from)).setComponent(up, 0)
    const to = by.add(new Vector3(...held.fit.by)).toArray() as Fit['by']
    layPart(clip, pairs.seam, { turn: held.fit.turn, by: to })
  }

  /** Escape: it stands where it stood. */
  cancel(): boolean {
    if (!this.held) return false
    this.held.putBack()
    this.held = null
    return true
  }
}
