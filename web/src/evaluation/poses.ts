/** Evaluated poses from the server, and forward kinematics of one frame. */

import type { Schemas } from '../api/client'
import type { Message } from '../api/safetensors'
import type { JointPose } from './rotations'

export interface Poses {
  frames: number
  joints: number
  /** (F, J, 4), local. */
  rotation: Float32Array
  /** Joints whose translation moves, and their translations (F, M, 3). */
  moving: Int32Array
  translation: Float32Array
  /** World rotations (F, P, 4) and places (F, P, 3) of props. */
  props?: { rotation: Float32Array; place: Float32Array } | undefined
}

/** The props of a message; undefined where it carries none. */
function propsOf({ arrays }: Message): Poses['props'] {
  const rotation = arrays.get('prop_rotation')?.data as Float32Array | undefined
  const place = arrays.get('prop_place')?.data as Float32Array | undefined
  return rotation && place ? { rotation, place } : undefined
}

type Joint = Schemas['JointOut']
type Triple = [number, number, number]
type Quad = [number, number, number, number]

export function posesOf(message: Message, joints: number): Poses {
  const get = (name: string) => message.arrays.get(name)!.data
  const frames = message.about.frames as number
  return {
    frames,
    joints,
    rotation: get('rotation') as Float32Array,
    moving: get('moving') as Int32Array,
    translation: get('translation') as Float32Array,
    props: propsOf(message),
  }
}

/** `base` with the joints that a message carries replaced. */
export function withChanged(base: Poses, message: Message): Poses {
  const joints = message.arrays.get('joints')!.data as Int32Array
  const rotation = message.arrays.get('rotation')!.data as Float32Array
  const moving = message.arrays.get('moving')!.data as Int32Array
  const translation = message.arrays.get('translation')!.data as Float32Array
  const out: Poses = {
    ...base,
    rotation: base.rotation.slice(),
    translation: base.translation.slice(),
    props: propsOf(message),
  }
  const n = joints.length
  for (let k = 0; k < n; k++) {
    const joint = joints[k]!
    for (let f = 0; f < base.frames; f++) {
      const from = (f * n + k) * 4
      const to = (f * base.joints + joint) * 4
      for (let c = 0; c < 4; c++) out.rotation[to + c] = rotation[from + c]!
    }
  }
  const m = moving.length
  for (let k = 0; k < m; k++) {
    const slot = base.moving.indexOf(moving[k]!)
    if (slot < 0) continue
    for (let f = 0; f < base.frames; f++) {
      const from = (f * m + k) * 3
      const to = (f * base.moving.length + slot) * 3
      for (let c = 0; c < 3; c++) out.translation[to + c] = translation[from + c]!
    }
  }
  return out
}

export interface WorldPose {
  /** (J, 3), in the skeleton's unit. */
  position: Float64Array
  /** (J, 4). */
  rotation: Float64Array
}

/** Joints whose pose is another than the server's: dragged, or played without a channel. */
export type Overrides = ReadonlyMap<
  number,
  { rotation: readonly number[]; translation: readonly number[] }
>

/** A joint's local pose at a frame. */
export function localAt(
  joints: readonly Joint[],
  poses: Poses,
  joint: number,
  frame: number,
): { rotation: Quad; translation: Triple } {
  const f = Math.min(Math.max(Math.round(frame), 0), poses.frames - 1)
  const slot = poses.moving.indexOf(joint)
  return {
    rotation: quatAt(poses.rotation, f * poses.joints + joint),
    translation:
      slot < 0
        ? ([...joints[joint]!.offset] as Triple)
        : vecAt(poses.translation, f * poses.moving.length + slot),
  }
}

/** World pose of one frame into `out`; parents stand before their children. */
export function forward(
  joints: readonly Joint[],
  poses: Poses,
  frame: number,
  out: WorldPose,
  overrides?: Overrides,
) {
  const { position, rotation } = out
  const f = Math.min(Math.max(Math.round(frame), 0), poses.frames - 1)
  for (let j = 0; j < joints.length; j++) {
    const joint = joints[j]!
    let [tx, ty, tz] = joint.offset as [number, number, number]
    const slot = poses.moving.indexOf(j)
    if (slot >= 0) {
      const at = (f * poses.moving.length + slot) * 3
      tx = poses.translation[at]!
      ty = poses.translation[at + 1]!
      tz = poses.translation[at + 2]!
    }
    const q = (f * poses.joints + j) * 4
    let x = poses.rotation[q]!
    let y = poses.rotation[q + 1]!
    let z = poses.rotation[q + 2]!
    let w = poses.rotation[q + 3]!
    const own = overrides?.get(j)
    if (own) {
      ;[tx, ty, tz] = own.translation as [number, number, number]
      ;[x, y, z, w] = own.rotation as [number, number, number, number]
    }
    const p = joint.parent
    if (p >= 0) {
      const a = rotation[4 * p]!
      const b = rotation[4 * p + 1]!
      const c = rotation[4 * p + 2]!
      const d = rotation[4 * p + 3]!
      const ux = 2 * (b * tz - c * ty)
      const uy = 2 * (c * tx - a * tz)
      const uz = 2 * (a * ty - b * tx)
      const rx = tx + d * ux + b * uz - c * uy
      const ry = ty + d * uy + c * ux - a * uz
      const rz = tz + d * uz + a * uy - b * ux
      tx = rx + position[3 * p]!
      ty = ry + position[3 * p + 1]!
      tz = rz + position[3 * p + 2]!
      const qx = d * x + a * w + b * z - c * y
      const qy = d * y - a * z + b * w + c * x
      const qz = d * z + a * y - b * x + c * w
      const qw = d * w - a * x - b * y - c * z
      x = qx
      y = qy
      z = qz
      w = qw
    }
    rotation[4 * j] = x
    rotation[4 * j + 1] = y
    rotation[4 * j + 2] = z
    rotation[4 * j + 3] = w
    position[3 * j] = tx
    position[3 * j + 1] = ty
    position[3 * j + 2] = tz
  }
}

export function emptyWorld(joints: number): WorldPose {
  return { position: new Float64Array(3 * joints), rotation: new Float64Array(4 * joints) }
}

/** The point and the rotation at a place of lists of them. */
export const vecAt = (all: ArrayLike<number>, at: number): Triple => [
  all[3 * at]!,
  all[3 * at + 1]!,
  all[3 * at + 2]!,
]
export const quatAt = (all: ArrayLike<number>, at: number): Quad => [
  all[4 * at]!,
  all[4 * at + 1]!,
  all[4 * at + 2]!,
  all[4 * at + 3]!,
]

/** How the prop at a place in the clip's list stands in the world; undefined where none is known. */
export function propAt({ props, frames }: Poses, at: number, frame: number): JointPose | undefined {
  if (!props || !frames) return undefined
  const k = Math.min(Math.round(frame), frames - 1) * (props.place.length / 3 / frames) + at
  return { rotation: quatAt(props.rotation, k), translation: vecAt(props.place, k) }
}
