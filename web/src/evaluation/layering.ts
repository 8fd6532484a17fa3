/** Layers laid over a joint's own pose, in the browser: the core's `layered_pose` for what is dragged. */

import { type ChannelKey, type Curve, channelKey, splitKey, valueAt } from './curves'
import type { Clip } from './model'
import { type Layer, layerOf, layerOwner, weightOf } from './owners'
import {
  about,
  addsOffset,
  anglesNear,
  between,
  inverse,
  type JointPose,
  multiply,
  type Quat,
  rotate,
  turned,
} from './rotations'

type Vector = [number, number, number]

const AXES = ['x', 'y', 'z'] as const

/** The layers that count, bottom to top: without the muted. */
export const live = (layers: readonly Layer[]): Layer[] => layers.filter((x) => !x.muted)

/** Whether a layer turns joints about the figure's axes. */
export const inFigure = (layer: Layer): boolean =>
  layer.kind === 'additive' && layer.space === 'figure'

const shareOf = (layer: Layer, joint: number): number =>
  layer.channels[joint] ? (layer.mask[joint] ?? 1) : 0

/** The live layers that touch a joint. */
export const layersOn = (clip: Clip, joint: number): Layer[] =>
  live(clip.layers).filter((x) => shareOf(x, joint) !== 0)

/** A joint's pose with its layers; null where a curve is not here, or a layer turns it about the
 * figure's axes, which takes all that it hangs on: {@link ledInFigure}. */
export function layered(
  clip: Clip,
  joint: number,
  below: JointPose,
  curve: (key: ChannelKey) => Curve | undefined,
  frame: number,
): JointPose | null {
  let pose = below
  for (const layer of layersOn(clip, joint)) {
    const weight = curve(weightOf(layer))
    if (!weight || (inFigure(layer) && layer.channels[joint]!.some((c) => c[0] === 'r')))
      return null
    const w = shareOf(layer, joint) * valueAt(weight, frame)
    const own = ownValues(layer, joint, curve, frame)
    if (!own) return null
    const turning = layer.channels[joint]!.some((c) => c[0] === 'r')
    const rotation = !turning
      ? pose.rotation
      : layer.kind === 'additive'
        ? multiply(pose.rotation, ofVector(vectorOf(own, w)))
        : byAngles(clip, joint, layer, pose.rotation, own, w, curve, frame)
    if (!rotation) return null
    pose = { rotation, translation: movedBy(clip, joint, layer, pose.translation, own, w) }
  }
  return pose
}

/** A layer's own values on a joint, by channel; null where a curve is not here. */
function ownValues(
  layer: Layer,
  joint: number,
  curve: (key: ChannelKey) => Curve | undefined,
  frame: number,
): Map<string, number> | null {
  const out = new Map<string, number>()
  for (const name of layer.channels[joint]!) {
    const found = curve(channelKey(joint, name, layerOwner(layer)))
    if (!found) return null
    out.set(name, valueAt(found, frame))
  }
  return out
}

const vectorOf = (own: ReadonlyMap<string, number>, w: number): Vector => [
  w * (own.get('rx') ?? 0),
  w * (own.get('ry') ?? 0),
  w * (own.get('rz') ?? 0),
]

/** The turn of a rotation vector in degrees. */
function ofVector(vector: Vector): Quat {
  const angle = Math.hypot(...vector)
  return angle < 1e-12 ? [0, 0, 0, 1] : turned(vector.map((v) => v / angle) as Vector, angle)
}

/** Numbers added to a joint's angles, or its way to angles of the layer's own. */
function byAngles(
  clip: Clip,
  joint: number,
  layer: Layer,
  below: Quat,
  own: ReadonlyMap<string, number>,
  w: number,
  curve: (key: ChannelKey) => Curve | undefined,
  frame: number,
): Quat | null {
  const names = clip.joints[joint]!.channels.filter((c) => c[0] === 'r')
  const near = names.map((c) => curve(channelKey(joint, c)))
  if (near.some((c) => !c)) return null
  const at = near.map((c) => valueAt(c!, frame))
  const order = names.map((c) => c[1]).join('')
  const angles = anglesNear(below, order, at)
  const goal = angles.map((angle, k) => {
    const given = own.get(names[k]!)
    if (given === undefined) return angle
    return layer.kind === 'override' ? given : angle + w * given
  })
  const there = names.reduce<Quat>(
    (q, name, k) => multiply(q, about(name[1] as 'x', goal[k]!)),
    [0, 0, 0, 1],
  )
  return layer.kind === 'channels' ? there : between(below, there, w)
}

function movedBy(
  clip: Clip,
  joint: number,
  layer: Layer,
  below: Vector,
  own: ReadonlyMap<string, number>,
  w: number,
): Vector {
  const out: Vector = [...below]
  const offset = clip.joints[joint]!.offset
  AXES.forEach((axis, k) => {
    const given = own.get(`t${axis}`)
    if (given === undefined) return
    const start = layer.kind === 'override' && addsOffset(clip, joint) ? offset[k]! : 0
    const by = layer.kind === 'override' ? given + start - out[k]! : given
    out[k] = out[k]! + w * by
  })
  return out
}

/** What layers turn a joint further, about its own axes; null where one of them does something else. */
function furtherBy(
  clip: Clip,
  joint: number,
  layers: readonly Layer[],
  curve: (key: ChannelKey) => Curve | undefined,
  frame: number,
): Quat | null {
  const only = { ...clip, layers: [...layers] }
  if (layersOn(only, joint).some((x) => x.kind !== 'additive')) return null
  const still: JointPose = { rotation: [0, 0, 0, 1], translation: [0, 0, 0] }
  return layered(only, joint, still, curve, frame)?.rotation ?? null
}

/** Joints that stand otherwise where curves of a layer in the figure's space do: from how all stands
 * and what the layer did then, `over` being the layers above it. Null where a share is between 0 and
 * 1, a curve is not here, or a layer above leads elsewhere. */
export function ledInFigure(
  clip: Clip,
  layer: Layer,
  over: readonly Layer[],
  local: (joint: number) => JointPose,
  before: (key: ChannelKey) => Curve | undefined,
  now: (key: ChannelKey) => Curve | undefined,
  frame: number,
): Map<number, JointPose> | null {
  /** What the layer turns a joint by, about the figure's axes. */
  const turnBy = (joint: number, curve: typeof now): Quat | null => {
    const weight = curve(weightOf(layer))
    const own = ownValues(layer, joint, curve, frame)
    return weight && own ? ofVector(vectorOf(own, valueAt(weight, frame))) : null
  }
  const out = new Map<number, JointPose>()
  const still: Quat = [0, 0, 0, 1]
  // Orientations in the figure, told relative to the root: as they were and as they are.
  const was: Quat[] = []
  const is: Quat[] = []
  for (const [joint, { parent }] of clip.joints.entries()) {
    const pose = local(joint)
    const root = parent < 0
    const more = furtherBy(clip, joint, over, now, frame)
    if (!more) return null
    let rotation = multiply(pose.rotation, inverse(more))
    was[joint] = root ? still : multiply(was[parent]!, rotation)
    if (shareOf(layer, joint)) {
      const [old, fresh] = [turnBy(joint, before), turnBy(joint, now)]
      if (!old || !fresh || shareOf(layer, joint) !== 1) return null
      const there = multiply(multiply(fresh, inverse(old)), root ? rotation : was[joint]!)
      rotation = root ? there : multiply(inverse(is[parent]!), there)
      out.set(joint, { ...pose, rotation: multiply(rotation, more) })
    }
    is[joint] = root ? still : multiply(is[parent]!, rotation)
  }
  return out
}

/** A joint's own rotation under layers, for it to be seen as wanted: what they make of it now they
 * make of it then. They turn it further about its own axes, or from outside about the figure's. */
export const beneath = (own: Quat, seen: Quat, wanted: Quat, figured: boolean): Quat =>
  figured
    ? multiply(multiply(own, inverse(seen)), wanted)
    : multiply(multiply(wanted, inverse(seen)), own)

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

/** A prop whose own curves go from one pose to another, from where it was seen placed: the core's
 * `placed_props`. */
export function placedProp(clip: Clip, was: JointPose, is: JointPose, seen: JointPose): JointPose {
  const p = placing(clip)
  if (!p) return is
  const by = rotate(
    p.turned,
    is.translation.map((v, k) => v - was.translation[k]!),
  )
  const at = (k: number) => seen.translation[k]! + p.along[k]! * by[k]!
  return { rotation: multiply(p.turned, is.rotation), translation: [at(0), at(1), at(2)] }
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
