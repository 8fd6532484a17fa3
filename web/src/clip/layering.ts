/** Layers laid over a joint's own pose, in the browser: the core's `layered_pose` for what is dragged. */
import type { Clip } from './bench'
import { type ChannelKey, type Curve, channelKey, splitKey, valueAt } from './curves'
import { type Layer, layerOf, layerOwner, weightOf } from './owners'
import { about, inverse, type JointPose, multiply, rotate, turned } from './rotations'

const AXES = ['x', 'y', 'z'] as const

/** The layers that count, bottom to top: those that are solo where some are, without the muted. */
export function heard(layers: readonly Layer[]): Layer[] {
  const solo = layers.some((x) => x.solo)
  return layers.filter((x) => !x.muted && (x.solo || !solo))
}

const shareOf = (layer: Layer, joint: number): number =>
  layer.channels[joint] ? (layer.mask[joint] ?? 1) : 0

/** The heard layers that touch a joint. */
export const layersOn = (clip: Clip, joint: number): Layer[] =>
  heard(clip.layers).filter((x) => shareOf(x, joint) !== 0)

/** A joint's pose with its layers; null where a curve is not here, or a layer does something else
 * than turn a joint further about its own axes: the server's answer is waited for then. */
export function layered(
  clip: Clip,
  joint: number,
  below: JointPose,
  curve: (key: ChannelKey) => Curve | undefined,
  frame: number,
): JointPose | null {
  let { rotation } = below
  const translation: JointPose['translation'] = [...below.translation]
  for (const layer of layersOn(clip, joint)) {
    if (layer.kind !== 'add' || layer.space !== 'parent') return null
    const weight = curve(weightOf(layer))
    if (!weight) return null
    const w = shareOf(layer, joint) * valueAt(weight, frame)
    const vector: [number, number, number] = [0, 0, 0]
    for (const name of layer.channels[joint]!) {
      const found = curve(channelKey(joint, name, layerOwner(layer)))
      if (!found) return null
      const k = AXES.indexOf(name[1] as 'x')
      const value = w * valueAt(found, frame)
      if (name[0] === 'r') vector[k] = value
      else translation[k] = translation[k]! + value
    }
    const angle = Math.hypot(...vector)
    if (angle > 1e-12)
      rotation = multiply(
        rotation,
        turned(vector.map((v) => v / angle) as [number, number, number], angle),
      )
  }
  return { rotation, translation }
}

/** How a placement turns and how it scales along each axis; null where it does nothing. */
function placing({ placement, reading }: Clip) {
  if (!placement || placement.muted) return null
  const up = 'xyz'.indexOf(reading.up_axis)
  const along = [0, 1, 2].map((k) => (k === up ? 1 : placement.scale))
  return { ...placement, turned: about(reading.up_axis, placement.turn), along }
}

/** A joint's pose with the clip's placement, the core's `placed_pose`: roots stand elsewhere. */
export function placed(clip: Clip, joint: number, pose: JointPose): JointPose {
  const p = clip.joints[joint]!.parent < 0 ? placing(clip) : null
  if (!p) return pose
  const there = rotate(
    p.turned,
    pose.translation.map((v, k) => v - p.about[k]!),
  )
  const at = (k: number) => p.about[k]! + p.along[k]! * there[k]! + p.move[k]!
  return { rotation: multiply(p.turned, pose.rotation), translation: [at(0), at(1), at(2)] }
}

/** What is placed so. */
export function unplaced(clip: Clip, joint: number, pose: JointPose): JointPose {
  const p = clip.joints[joint]!.parent < 0 ? placing(clip) : null
  if (!p) return pose
  const back = inverse(p.turned)
  const away = rotate(
    back,
    pose.translation.map((v, k) => (v - p.about[k]! - p.move[k]!) / p.along[k]!),
  )
  const at = (k: number) => p.about[k]! + away[k]!
  return { rotation: multiply(back, pose.rotation), translation: [at(0), at(1), at(2)] }
}

/** Joints that stand otherwise where these channels of layers do: all of a layer's by its weight. */
export function joinedBy(clip: Clip, keys: Iterable<ChannelKey>): number[] {
  const out = new Set<number>()
  for (const key of keys) {
    const layer = layerOf(clip, key)
    const { joint } = splitKey(key)
    if (!layer) continue
    for (const j of key === weightOf(layer) ? Object.keys(layer.channels).map(Number) : [joint])
      out.add(j)
  }
  return [...out]
}
