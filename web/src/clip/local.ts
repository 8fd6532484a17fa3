/** A joint's own pose from its channels, in the browser: for what is being dragged or muted. */
import type { Clip } from './bench'
import { type ChannelKey, type Curve, channelKey, valueAt } from './curves'

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

/** The joint's pose at a frame; undefined where some of its curves are not here. */
export function jointPose(
  clip: Clip,
  joint: number,
  curve: (key: ChannelKey) => Curve | undefined,
  frame: number,
  frameOf: (key: ChannelKey) => number = () => frame,
): JointPose | undefined {
  const { channels, offset, parent } = clip.joints[joint]!
  const add = (parent < 0 ? clip.reading.root_positions : clip.reading.joint_positions) === 'add'
  let rotation: Quat = [0, 0, 0, 1]
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
