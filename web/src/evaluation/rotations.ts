/** A joint's own pose from its channels, in the browser: for what is being dragged or muted. */

import { type ChannelKey, type Curve, channelKey, splitKey, valueAt } from './curves'
import type { Clip } from './model'
import { channelsOfProp } from './owners'

/** Local rotation (x, y, z, w) and translation of a joint. */
export interface JointPose {
  rotation: [number, number, number, number]
  translation: [number, number, number]
}

type Quat = [number, number, number, number]

export function multiply(a: Quat, b: Quat): Quat {
  const [ax, ay, az, aw] = a
  const [bx, by, bz, bw] = b
  return [
    aw * bx + ax * bw + ay * bz - az * by,
    aw * by - ax * bz + ay * bw + az * bx,
    aw * bz + ax * by - ay * bx + az * bw,
    aw * bw - ax * bx - ay * by - az * bz,
  ]
}

export function about(axis: 'x' | 'y' | 'z', degrees: number): Quat {
  const half = (degrees * Math.PI) / 360
  const out: Quat = [0, 0, 0, Math.cos(half)]
  out['xyz'.indexOf(axis)] = Math.sin(half)
  return out
}

/** Whether a joint's position channels add to its rest offset: the core's `adds_offset`. */
export const addsOffset = ({ joints, reading }: Clip, joint: number): boolean =>
  (joints[joint]!.parent < 0 ? reading.root_positions : reading.joint_positions) === 'add'

/** Where a prop is and how it is turned at a frame; undefined where some of its curves are not here. */
export function propPose(
  id: number,
  curve: (key: ChannelKey) => Curve | undefined,
  frame: number,
): JointPose | undefined {
  let rotation: Quat = [0, 0, 0, 1]
  const translation: [number, number, number] = [0, 0, 0]
  for (const key of channelsOfProp(id)) {
    const found = curve(key)
    if (!found) return undefined
    const { channel } = splitKey(key)
    const axis = channel[1] as 'x' | 'y' | 'z'
    const value = valueAt(found, frame)
    if (channel[0] === 'r') rotation = multiply(rotation, about(axis, value))
    else translation['xyz'.indexOf(axis)] = value
  }
  return { rotation, translation }
}

/** The joint's pose at a frame; undefined where some of its curves are not here. */
export function jointPose(
  clip: Clip,
  joint: number,
  curve: (key: ChannelKey) => Curve | undefined,
  frame: number,
  frameOf: (key: ChannelKey) => number = () => frame,
): JointPose | undefined {
  const { channels, offset } = clip.joints[joint]!
  const add = addsOffset(clip, joint)
  const turning = channels.some((name) => name[0] === 'r')
  let rotation = (turning ? [0, 0, 0, 1] : clip.joints[joint]!.rest) as Quat
  const translation = [...offset] as [number, number, number]
  for (const name of channels) {
    const key = channelKey(joint, name)
    const found = curve(key)
    if (!found) return undefined
    const value = valueAt(found, frameOf(key))
    const axis = name[1] as 'x' | 'y' | 'z'
    // Intrinsic, as listed: each turn about the axes that the ones before it left.
    if (name[0] === 'r') rotation = multiply(rotation, about(axis, value))
    else {
      const k = 'xyz'.indexOf(axis)
      translation[k] = value + (add ? offset[k]! : 0)
    }
  }
  return { rotation, translation }
}

/** The direction a channel turns about or moves along, in the parent's space. */
export function channelAxis(
  clip: Clip,
  joint: number,
  channel: string,
  curve: (key: ChannelKey) => Curve | undefined,
  frame: number,
): [number, number, number] {
  let turned: Quat = [0, 0, 0, 1]
  if (channel[0] === 'r')
    for (const name of clip.joints[joint]!.channels) {
      if (name === channel) break
      const found = name[0] === 'r' ? curve(channelKey(joint, name)) : undefined
      if (found) turned = multiply(turned, about(name[1] as 'x', valueAt(found, frame)))
    }
  const axis: Quat = [0, 0, 0, 0]
  axis['xyz'.indexOf(channel[1]!)] = 1
  const back: Quat = [-turned[0], -turned[1], -turned[2], turned[3]]
  const [x, y, z] = multiply(multiply(turned, axis), back)
  return [x, y, z]
}

export type { Quat }

export const inverse = ([x, y, z, w]: Quat): Quat => [-x, -y, -z, w]

/** A vector turned. */
export function rotate(q: Quat, [x, y, z]: readonly number[]): [number, number, number] {
  const [a, b, c] = multiply(multiply(q, [x!, y!, z!, 0]), inverse(q))
  return [a, b, c]
}

/** A turn by degrees about an axis of length one. */
export function turned(axis: readonly number[], degrees: number): Quat {
  const half = (degrees * Math.PI) / 360
  const s = Math.sin(half)
  return [s * axis[0]!, s * axis[1]!, s * axis[2]!, Math.cos(half)]
}

/** The rotation vector of a turn, in degrees. */
export function turnOf(q: Quat): [number, number, number] {
  const [x, y, z, w] = q[3] < 0 ? (q.map((v) => -v) as Quat) : q
  const size = Math.hypot(x, y, z)
  if (size < 1e-12) return [0, 0, 0]
  const k = (2 * Math.atan2(size, w) * 180) / Math.PI / size
  return [k * x, k * y, k * z]
}

/** A share of the way from one rotation to another, the shortest: the core's `slerp`. */
export function between(from: Quat, to: Quat, share: number): Quat {
  const vector = turnOf(multiply(inverse(from), to))
  const size = Math.hypot(...vector)
  if (size < 1e-12) return from
  return multiply(
    from,
    turned(
      vector.map((v) => v / size),
      share * size,
    ),
  )
}

/** A rotation as a matrix, row by row. */
export function matrixOf([x, y, z, w]: Quat): number[][] {
  return [
    [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
    [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
    [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
  ]
}

const DEGREES = 180 / Math.PI
/** How near the middle angle may be to a right angle before the outer two are one. */
const LOCKED = 1e-7

/** The angles of a rotation in an order of three different axes, intrinsic as listed, degrees: the
 * solution nearest to `near`. */
export function anglesNear(q: Quat, order: string, near: readonly number[]): number[] {
  if (order.length < 3) return fewNear(q, order, near)
  const [a, b, c] = [...order.toLowerCase()].map((axis) => 'xyz'.indexOf(axis)) as [
    number,
    number,
    number,
  ]
  const even = (b - a + 3) % 3 === 1 ? 1 : -1
  const m = matrixOf(q)
  const sine = Math.min(1, Math.max(-1, even * m[a]![c]!))
  const middle = Math.asin(sine) * DEGREES
  if (1 - Math.abs(sine) < LOCKED) {
    // Only the sum or the difference of the outer angles counts: the first one stays.
    const first = near[0]!
    const rest = multiply(inverse(multiply(about(axisOf(a), first), about(axisOf(b), middle))), q)
    const last = 2 * Math.atan2(rest[c]!, rest[3]) * DEGREES
    return [first, closest(middle, near[1]!), closest(last, near[2]!)]
  }
  const outer = Math.atan2(-even * m[b]![c]!, m[c]![c]!) * DEGREES
  const inner = Math.atan2(-even * m[a]![b]!, m[a]![a]!) * DEGREES
  const found = [
    [outer, middle, inner],
    [outer + 180, 180 - middle, inner + 180],
  ].map((angles) => angles.map((v, k) => closest(v, near[k]!)))
  // As the core weighs them: by the sum of squares.
  const far = (angles: number[]) => angles.reduce((sum, v, k) => sum + (v - near[k]!) ** 2, 0)
  return far(found[0]!) <= far(found[1]!) ? found[0]! : found[1]!
}

/** Angles about no more than two axes that come nearest to a rotation: the larger singular value of
 * what their half angles' cosines and sines are weighed by. */
function fewNear(q: Quat, order: string, near: readonly number[]): number[] {
  const [i, j] = [...order.toLowerCase()].map((axis) => 'xyz'.indexOf(axis))
  if (i === undefined) return []
  if (j === undefined) return [closest(2 * Math.atan2(q[i]!, q[3]) * DEGREES, near[0]!)]
  const sign = (j - i + 3) % 3 === 1 ? 1 : -1
  const [a, b, c, d] = [q[3], q[j]!, q[i]!, sign * q[3 - i - j]!]
  const [sum, gap] = [Math.atan2(c - b, a + d), Math.atan2(c + b, a - d)]
  const [first, second] = [sum + gap, gap - sum]
  return [closest(first * DEGREES, near[0]!), closest(second * DEGREES, near[1]!)]
}

const axisOf = (k: number) => 'xyz'[k] as 'x' | 'y' | 'z'
/** An angle with whole turns added, so that it is nearest to another. */
const closest = (angle: number, near: number): number =>
  angle + 360 * Math.round((near - angle) / 360)
