/** Joints turned and moved by the stage's gizmo: several together, each about itself. */

import { chosenLayer } from '../actions/layers'
import {
  type Change,
  cancelPose,
  changeFor,
  commitPose,
  mayPose,
  ofValues,
  type PoseMode,
  poseToHand,
  showPose,
  turnedJoint,
  usePosing,
  valueNow,
} from '../actions/posing'
import { begunPull, hipsOf, isPulled, type Pull, pulledBy, reachText } from '../actions/pulling'
import { channelKey } from '../evaluation/curves'
import { inverse, type JointPose, type Quat, rotate } from '../evaluation/rotations'
import { useBench } from '../view/bench'
import { transport } from '../view/transport'
import type { Eye } from './Eye'
import { AXES, type Axis, type GizmoPlace } from './Gizmo'
import { listen } from './held'
import type { Stage } from './Stage'

interface Grabbed {
  axis: Axis
  amount: (x: number, y: number) => number
  joints: { joint: number; pose: JointPose; parent: Quat; values: ReadonlyMap<string, number> }[]
  /** How the figure stood where ends are pulled. */
  pull: Pull | null
}

const SNAP = { turn: 5, move: 0.01, pull: 0.01 } // degrees, metres

/** Axes that a joint can be turned about: all of them, or those of its single channels. */
export function axesOf(joint: number, mode: PoseMode): Axis[] {
  if (mode === 'pull') return isPulled(joint) ? [...AXES] : []
  const { channels } = useBench.getState().clip!.joints[joint]!
  const kind = mode === 'turn' ? 'r' : 't'
  const own = AXES.filter((axis) => channels.includes(kind + axis))
  // A layer turns by a vector: that takes all three.
  return mode === 'turn' && own.length < 3 && chosenLayer() ? [] : own
}

export class PosingHand {
  onReadout: (text: string) => void = () => {}
  private grabbed: Grabbed | null = null
  readonly dispose: () => void

  constructor(private stage: Stage) {
    this.dispose = listen(stage.eyes, {
      down: (eye, event) => this.down(eye, event),
      move: (eye, event) => this.move(eye, event),
      up: () => this.up(),
    })
  }

  get busy(): boolean {
    return this.grabbed !== null
  }

  /** Where the gizmo stands now: at the first selected joint that it can do something to. */
  place(): GizmoPlace | null {
    const { on, mode, axes } = usePosing.getState()
    const { clip, joints, preview } = useBench.getState()
    if (!on || !clip || preview || transport.playing) return null
    const joint = joints.find((j) => axesOf(j, mode).length)
    if (joint === undefined) return null
    const own = axesOf(joint, mode)
    const alone = mode === 'turn' && own.length < 3
    const frame = mode === 'move' ? clip.joints[joint]!.parent : mode === 'pull' ? hipsOf() : joint
    const turn = this.stage.turnOf(axes === 'world' && !alone ? -1 : frame)
    return { at: this.stage.joint(joint), turn, axes: own, mode: mode === 'turn' ? mode : 'move' }
  }

  update(): void {
    if (!this.grabbed) this.stage.gizmo.show(this.place())
  }

  private down(eye: Eye, event: PointerEvent): void {
    const axis =
      event.button === 0 ? this.stage.gizmo.pick(eye, event.offsetX, event.offsetY) : null
    if (!axis) return
    event.stopImmediatePropagation()
    event.preventDefault()
    if (!mayPose()) return
    eye.element.setPointerCapture(event.pointerId)
    this.grabbed = {
      axis,
      amount: this.stage.gizmo.begin(eye, axis, event.offsetX, event.offsetY),
      joints: this.picked(),
      pull: this.pulled(),
    }
    this.stage.gizmo.hold(axis)
  }

  /** The selected joints as they stand, for what is done to all of them. */
  private picked(): Grabbed['joints'] {
    const { clip, joints } = useBench.getState()
    const { mode } = usePosing.getState()
    return joints.flatMap((joint) => {
      const pose = axesOf(joint, mode).length ? poseToHand(joint) : undefined
      if (!clip || !pose) return []
      const up = clip.joints[joint]!.parent
      const values = new Map(
        AXES.map((a) => [a, valueNow(channelKey(joint, `r${a}`)) ?? 0] as const),
      )
      const parent: Quat = up < 0 ? [0, 0, 0, 1] : this.stage.worldRotation(up)
      return [{ joint, pose, parent, values }]
    })
  }

  /** The ends that are pulled, as they and all of the figure stand; null in other modes. */
  private pulled(): Pull | null {
    const { mode } = usePosing.getState()
    const { joints } = useBench.getState()
    return mode === 'pull' ? begunPull(joints, this.stage.worldNow()) : null
  }

  /** What pulled ends give, by an amount along an axis of the gizmo, in metres. */
  private led(pull: Pull, axis: Axis, amount: number): Change {
    const { clip } = useBench.getState()
    const { axes } = usePosing.getState()
    const unit = AXES.map((a) => Number(a === axis))
    const hips = hipsOf()
    const along = axes === 'world' || hips < 0 ? unit : rotate(this.stage.worldRotation(hips), unit)
    const far = amount / clip!.reading.metres_per_unit
    return pulledBy(
      pull,
      along.map((v) => v * far),
    )
  }

  /** Where a joint is, in the world or from the hips in their axes, in the skeleton's unit. */
  endPlace(joint: number): [number, number, number] {
    const { position } = this.stage.worldNow()
    const at = (j: number) => [0, 1, 2].map((k) => position[3 * j + k]!)
    const hips = hipsOf()
    const place = at(joint)
    if (usePosing.getState().axes === 'world' || hips < 0) return place as [number, number, number]
    const away = place.map((v, k) => v - at(hips)[k]!)
    return rotate(inverse(this.stage.worldRotation(hips)), away)
  }

  /** Lead the first selected end to a place, as `endPlace` says it. */
  pullTo(place: readonly number[]): void {
    const pull = this.pulled()
    const end = pull?.ends[0]
    if (!end || !mayPose()) return
    const now = this.endPlace(end.joint)
    const by = place.map((v, k) => v - now[k]!)
    const hips = hipsOf()
    const own = usePosing.getState().axes !== 'world' && hips >= 0
    commitPose(pulledBy(pull, own ? rotate(this.stage.worldRotation(hips), by) : by))
  }

  /** Turn or move the selected joints by a number, in degrees or metres. */
  step(axis: Axis, amount: number): void {
    if (!amount || !mayPose()) return
    const pull = this.pulled()
    commitPose(pull ? this.led(pull, axis, amount) : by(this.picked(), axis, amount))
  }

  private move(eye: Eye, event: PointerEvent): void {
    const { grabbed } = this
    if (!grabbed) {
      const over = this.stage.gizmo.pick(eye, event.offsetX, event.offsetY)
      eye.element.style.cursor = over ? 'grab' : ''
      return
    }
    const { mode } = usePosing.getState()
    let amount = grabbed.amount(event.offsetX, event.offsetY)
    if (event.shiftKey) amount = Math.round(amount / SNAP[mode]) * SNAP[mode]
    showPose(
      grabbed.pull
        ? this.led(grabbed.pull, grabbed.axis, amount)
        : by(grabbed.joints, grabbed.axis, amount),
    )
    const sign = amount < 0 ? '−' : '+'
    const size = mode === 'turn' ? Math.abs(amount).toFixed(1) : (Math.abs(amount) * 100).toFixed(1)
    const unit = mode === 'turn' ? '°' : ' cm'
    const reach = grabbed.pull ? reachText(grabbed.pull) : ''
    this.onReadout(`${mode} ${grabbed.axis.toUpperCase()} ${sign}${size}${unit}${reach}`)
  }

  private up(): void {
    if (!this.grabbed) return
    this.release()
    commitPose()
  }

  private release(): void {
    this.grabbed = null
    this.stage.gizmo.hold(null)
    this.onReadout('')
  }

  /** Escape: what stood before the drag stands again. */
  cancel(): boolean {
    if (!this.grabbed) return false
    this.release()
    cancelPose()
    return true
  }
}

/** What becomes of joints by an amount, in degrees or metres, from where they stood. */
function by(joints: Grabbed['joints'], axis: Axis, amount: number): Change {
  const { mode, axes } = usePosing.getState()
  const { clip } = useBench.getState()
  const unit = AXES.map((a) => Number(a === axis))
  const single = new Map<string, number>()
  const wanted = new Map<number, JointPose>()
  for (const { joint, pose, parent, values } of joints) {
    const own = axesOf(joint, mode)
    if (mode === 'turn' && own.length < 3) {
      if (own.includes(axis)) single.set(channelKey(joint, `r${axis}`), values.get(axis)! + amount)
      continue
    }
    let next: JointPose
    if (mode === 'turn') next = turnedJoint(pose, unit, amount, axes === 'world' ? parent : null)
    else {
      const along = axes === 'world' ? rotate(inverse(parent), unit) : unit
      const far = amount / clip!.reading.metres_per_unit
      const translation = pose.translation.map((v, k) => v + far * along[k]!)
      next = { ...pose, translation: translation as JointPose['translation'] }
    }
    wanted.set(joint, next)
  }
  const change = changeFor(wanted)
  return single.size ? ofValues(new Map([...change.values, ...single])) : change
}
