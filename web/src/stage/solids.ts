/** The drawn figure's solids, made from a skeleton at rest: a paper body with the joints' proportions. */
import { Quaternion, Vector3 } from 'three'
import radii from '../../../core/leancurve/figure/radii.json'
import type { Drawn } from '../sync/retargeting'
import type { Bone } from './bones'

/** One solid: vertices that turn with a joint. A limb follows its far end, should that move. */
export interface Solid {
  joint: number
  /** The joint at its far end, or -1. */
  child: number
  /** Its first vertex, and how many. */
  at: number
  count: number
  /** Of a limb: its direction and length at rest, in the joint's space. */
  axis: Vector3
  length: number
}

export interface Solids {
  /** In their joints' spaces. */
  position: Float32Array
  normal: Float32Array
  index: number[]
  /** 1 where a solid is hatched: the left side is told apart without colour. */
  hatch: Float32Array
  solids: Solid[]
  /** Vertices of soles, a foot each: where the figure stands. */
  soles: { at: number; count: number }[]
}

/** A ring of a solid: its centre, two half axes. */
interface Ring {
  centre: Vector3
  a: Vector3
  b: Vector3
}

/** Radii of a limb at its two ends, as shares of the figure's height. */
const LIMBS = radii.limbs as unknown as Readonly<Record<string, [number, number]>>
const FINGERS = new Set(['thumb', 'index', 'middle', 'ring', 'little'])
const FINGER = radii.finger as [number, number]
/** Limbs are not quite round: a twist shows. */
const FLAT = 0.8
/** Joints that no solid leads to: what hangs there is inside of another. */
const HIDDEN = new Set(['twist', 'end', 'jaw', 'eye'])
/** Parts that are drawn whole, whatever bones they have. */
const WHOLE = new Set(['head', 'hand', 'foot', 'toe'])

class Builder {
  position: number[] = []
  normal: number[] = []
  hatch: number[] = []
  index: number[] = []
  solids: Solid[] = []

  /** A closed solid of rings between two poles. */
  add(
    joint: number,
    rings: Ring[],
    poles: [Vector3, Vector3],
    sides: number,
    hatched: boolean,
    limb?: { child: number; axis: Vector3; length: number },
  ): { at: number; count: number } {
    const at = this.position.length / 3
    const points = [poles[0]]
    for (const { centre, a, b } of rings)
      for (let k = 0; k < sides; k++) {
        const t = (2 * Math.PI * k) / sides
        points.push(centre.clone().addScaledVector(a, Math.cos(t)).addScaledVector(b, Math.sin(t)))
      }
    points.push(poles[1])
    const faces: [number, number, number][] = []
    const end = points.length - 1
    const of = (ring: number, k: number) => 1 + ring * sides + (k % sides)
    for (let k = 0; k < sides; k++) {
      faces.push([0, of(0, k + 1), of(0, k)])
      faces.push([end, of(rings.length - 1, k), of(rings.length - 1, k + 1)])
      for (let r = 0; r + 1 < rings.length; r++) {
        faces.push([of(r, k), of(r, k + 1), of(r + 1, k)])
        faces.push([of(r, k + 1), of(r + 1, k + 1), of(r + 1, k)])
      }
    }
    const middle = points.reduce((sum, p) => sum.add(p), new Vector3()).divideScalar(points.length)
    const normals = points.map(() => new Vector3())
    const [u, v] = [new Vector3(), new Vector3()]
    for (const face of faces) {
      const [p, q, r] = face.map((k) => points[k]!) as [Vector3, Vector3, Vector3]
      u.subVectors(q, p).cross(v.subVectors(r, p))
      // Outwards, whichever way the rings' axes turn.
      if (u.dot(v.subVectors(p, middle)) < 0) {
        face.reverse()
        u.negate()
      }
      for (const k of face) normals[k]!.add(u)
      this.index.push(...face.map((k) => at + k))
    }
    for (const n of normals) this.normal.push(...n.normalize().toArray())
    for (const p of points) {
      this.position.push(...p.toArray())
      this.hatch.push(hatched ? 1 : 0)
    }
    const count = points.length
    const still = { child: -1, axis: new Vector3(0, 1, 0), length: 0 }
    this.solids.push({ joint, at, count, ...(limb ?? still) })
    return { at, count }
  }
}

const across = (axis: Vector3, wanted: Vector3): [Vector3, Vector3] => {
  let a = wanted.clone().addScaledVector(axis, -wanted.dot(axis))
  if (a.lengthSq() < 1e-6) a = new Vector3(axis.y, axis.z, axis.x).cross(axis)
  a.normalize()
  return [a, new Vector3().crossVectors(axis, a)]
}

/** Rings at heights along an axis from a point, with half widths along both axes across it. */
const stack = (
  from: Vector3,
  axis: Vector3,
  [a, b]: [Vector3, Vector3],
  profile: readonly (readonly [number, number, number, number?])[],
): Ring[] =>
  profile.map(([t, wide, deep, ahead = 0]) => ({
    centre: from.clone().addScaledVector(axis, t).addScaledVector(b, ahead),
    a: a.clone().multiplyScalar(wide),
    b: b.clone().multiplyScalar(deep),
  }))

/** The side and the part of a role: "left upper arm" is ["left", "upper arm"]. */
function partOf(role: string | null | undefined): [string, string] {
  const found = /^(left|right) (.*)$/.exec(role ?? '')
  return found ? [found[1]!, found[2]!] : ['', role ?? '']
}

export function solidsOf(
  clip: Drawn,
  bones: readonly Bone[],
  roles: readonly (string | null)[] | null,
): Solids {
  const { joints } = clip
  const build = new Builder()
  const soles: Solids['soles'] = []
  const height = clip.height || 1
  const parts = joints.map((_, j) => partOf(roles?.[j]))
  // The skeleton at rest, in the world.
  const turned: Quaternion[] = []
  const placed: Vector3[] = []
  for (const [j, { parent, offset, rest }] of joints.entries()) {
    const own = new Quaternion().fromArray(rest)
    const above = parent < 0 ? new Quaternion() : turned[parent]!
    turned[j] = above.clone().multiply(own)
    placed[j] = new Vector3().fromArray(offset).applyQuaternion(above)
    if (parent >= 0) placed[j]!.add(placed[parent]!)
  }
  const into = (joint: number, v: Vector3) =>
    v.clone().applyQuaternion(turned[joint]!.clone().invert())
  const find = (side: string, part: string) => parts.findIndex(([s, p]) => s === side && p === part)
  const up = new Vector3()
  up[clip.reading.up_axis] = 1
  const pair = (part: string): Vector3 | null => {
    const [l, r] = [find('left', part), find('right', part)]
    return l < 0 || r < 0 ? null : placed[l]!.clone().sub(placed[r]!)
  }
  const left = (pair('thigh') ?? pair('upper arm') ?? new Vector3(1, 0, 0)).clone()
  left.addScaledVector(up, -left.dot(up)).normalize()
  const ahead = new Vector3().crossVectors(left, up).normalize()

  const limb = (bone: Bone, radii: [number, number], sides: number, hatched: boolean) => {
    const { joint, child } = bone
    const tip = new Vector3().fromArray(child >= 0 ? joints[child]!.offset : bone.tip)
    const length = tip.length()
    if (length < 1e-6 * height) return
    const axis = tip.clone().divideScalar(length)
    const [r0, r1] = radii
    const side = into(joint, left)
    const at = (t: number) => [t * length, r0 + (r1 - r0) * t, FLAT * (r0 + (r1 - r0) * t)] as const
    const cap = (r: number, t: number, sign: number) =>
      [0.92, 0.6].map((part) => {
        const wide = r * Math.sqrt(1 - part * part)
        return [t * length + sign * r * part, wide, FLAT * wide] as const
      })
    const rings = stack(new Vector3(), axis, across(axis, side), [
      ...cap(r0, 0, -1),
      at(0),
      at(0.5),
      at(1),
      ...cap(r1, 1, 1).reverse(),
    ])
    const poles: [Vector3, Vector3] = [
      axis.clone().multiplyScalar(-r0),
      axis.clone().multiplyScalar(length + r1),
    ]
    build.add(joint, rings, poles, sides, hatched, { child, axis, length })
  }

  /** A volume along an axis, its profile in shares of the height. */
  const volume = (
    joint: number,
    from: Vector3,
    axis: Vector3,
    profile: readonly (readonly [number, number, number, number?])[],
    sides: number,
    hatched: boolean,
    side = left,
  ) => {
    const [own, sideways] = [into(joint, axis).normalize(), into(joint, side)]
    const wide = across(own, sideways)
    // Ahead lies on the positive side of the second axis.
    if (wide[1].dot(into(joint, ahead)) < 0) wide[1].negate()
    const scaled = profile.map(
      ([t, a, b, f = 0]) => [t * height, a * height, b * height, f * height] as const,
    )
    const rings = stack(into(joint, from), own, wide, scaled)
    const pole = (ring: Ring, by: number) => ring.centre.clone().addScaledVector(own, by * height)
    return build.add(
      joint,
      rings,
      [pole(rings[0]!, -0.006), pole(rings.at(-1)!, 0.006)],
      sides,
      hatched,
    )
  }

  const children = (joint: number, part: string) =>
    joints.flatMap((c, k) => (c.parent === joint && parts[k]![1] === part ? [k] : []))
  const top = joints.findIndex(
    (_, j) =>
      parts[j]![1] === 'spine' &&
      (children(j, 'clavicle').length > 0 || children(j, 'upper arm').length > 0),
  )
  const middleOf = (points: Vector3[]) =>
    points.reduce((sum, p) => sum.add(p), new Vector3()).divideScalar(points.length || 1)

  const pelvis = find('', 'hips') >= 0 && pair('thigh') !== null
  const ribs = top >= 0 && pair('upper arm') !== null
  const plain = (bone: Bone, hatched: boolean) => {
    const offset = bone.child >= 0 ? joints[bone.child]!.offset : bone.tip
    const wide = Math.min(Math.max(0.13 * Math.hypot(...offset), 0.005 * height), 0.032 * height)
    limb(bone, [wide, 0.7 * wide], 8, hatched)
  }
  for (const bone of bones) {
    const [side, part] = parts[bone.joint]!
    const [toSide, to] = bone.child >= 0 ? parts[bone.child]! : ['', '']
    const hatched = (side || toSide) === 'left'
    const draw = (radii: readonly [number, number], sides: number) =>
      limb(bone, [radii[0] * height, radii[1] * height], sides, hatched)
    if (HIDDEN.has(to) || HIDDEN.has(part) || WHOLE.has(part)) continue
    if (FINGERS.has(part)) draw(FINGER, 6)
    else if (part === 'hips' && (to === 'spine' || pelvis)) {
      if (to === 'spine') draw(LIMBS.spine!, 12)
    } else if (part === 'spine' && bone.joint === top && ribs) {
      if (to === 'neck') draw(LIMBS.neck!, 12)
    } else if (part in LIMBS && to !== 'helper' && bone.child >= 0)
      draw(LIMBS[part]!, part === 'spine' ? 12 : 10)
    else plain(bone, hatched)
  }
  if (!roles) return finish(build, soles)

  const hips = find('', 'hips')
  const thighs = pair('thigh')
  if (pelvis && thighs) {
    const half = thighs.length() / 2 / height
    const legs = middleOf(['left', 'right'].map((s) => placed[find(s, 'thigh')]!.clone()))
    const from = legs.sub(placed[hips]!).addScaledVector(up, -0.03 * height)
    volume(hips, from, up, [
      [0, 0.55 * half + 0.01, 0.035],
      [0.025, half + 0.034, 0.055],
      [0.06, half + 0.042, 0.064],
      [0.095, half + 0.03, 0.06],
      [0.12, half + 0.005, 0.05],
    ], 16, false) // biome-ignore format: a profile
  }
  const shoulders = pair('upper arm')
  if (ribs && shoulders) {
    const half = shoulders.length() / 2 / height
    const above = middleOf(['left', 'right'].map((s) => placed[find(s, 'upper arm')]!.clone()))
    const from = above.sub(placed[top]!).addScaledVector(up, -0.165 * height)
    volume(top, from, up, [
      [0, 0.068, 0.055],
      [0.03, 0.08, 0.066, 0.004],
      [0.08, 0.6 * half + 0.035, 0.075, 0.006],
      [0.13, 0.8 * half + 0.022, 0.07, 0.002],
      [0.165, 0.85 * half + 0.01, 0.05],
      [0.19, 0.5 * half, 0.036],
    ], 16, false) // biome-ignore format: a profile
  }
  const head = find('', 'head')
  if (head >= 0)
    volume(head, new Vector3().addScaledVector(up, -0.012 * height), up, [
      [0, 0.022, 0.026, 0.02],
      [0.02, 0.031, 0.038, 0.018],
      [0.05, 0.038, 0.046, 0.012],
      [0.085, 0.043, 0.052, 0.004],
      [0.115, 0.041, 0.049, 0],
      [0.137, 0.027, 0.033, -0.002],
    ], 14, false) // biome-ignore format: a profile
  for (const side of ['left', 'right']) {
    const hatched = side === 'left'
    const hand = find(side, 'hand')
    if (hand >= 0) mitt(hand, side, hatched)
    const foot = find(side, 'foot')
    if (foot >= 0) sole(foot, side, hatched)
  }
  return finish(build, soles)

  function mitt(hand: number, side: string, hatched: boolean): void {
    const bases = joints.flatMap((c, k) => {
      const [s, p] = parts[k]!
      const direct = c.parent === hand || joints[c.parent]?.parent === hand
      return s === side && FINGERS.has(p) && p !== 'thumb' && direct && parts[c.parent]![1] !== p
        ? [k]
        : []
    })
    const site = bones.find((b) => b.joint === hand && b.child < 0)
    const tip = bases.length
      ? middleOf(bases.map((k) => placed[k]!.clone())).sub(placed[hand]!)
      : site
        ? new Vector3().fromArray(site.tip).applyQuaternion(turned[hand]!)
        : placed[hand]!.clone().sub(placed[joints[hand]!.parent]!).multiplyScalar(0.35)
    const length = Math.max(tip.length() / height, 0.02) * (bases.length ? 1.05 : 1.25)
    const wide =
      bases.length > 1 ? placed[bases[0]!]!.clone().sub(placed[bases.at(-1)!]!) : ahead.clone()
    volume(hand, new Vector3(), tip.clone().normalize(), [
      [-0.004, 0.014, 0.011],
      [0.25 * length, 0.022, 0.012],
      [0.75 * length, 0.025, 0.011],
      [length, 0.019, 0.008],
    ], 10, hatched, wide) // biome-ignore format: a profile
    if (!bases.length && find(side, 'thumb') < 0) {
      const thumb = tip
        .clone()
        .normalize()
        .multiplyScalar(0.6)
        .addScaledVector(ahead, 0.8)
        .normalize()
      volume(hand, ahead.clone().multiplyScalar(0.012 * height), thumb, [
        [0, 0.008, 0.008],
        [0.02, 0.009, 0.009],
        [0.036, 0.007, 0.007],
      ], 6, hatched) // biome-ignore format: a profile
    }
  }

  function sole(foot: number, side: string, hatched: boolean): void {
    const toe = find(side, 'toe')
    const site = bones.find((b) => b.joint === (toe >= 0 ? toe : foot) && b.child < 0)
    const to =
      toe >= 0
        ? placed[toe]!.clone().sub(placed[foot]!)
        : site
          ? new Vector3().fromArray(site.tip).applyQuaternion(turned[foot]!)
          : ahead.clone().multiplyScalar(0.1 * height)
    const drop = Math.min(to.dot(up), -0.02 * height)
    const way = to.clone().addScaledVector(up, -to.dot(up))
    const length = Math.max(way.length(), 0.04 * height) / height
    if (way.lengthSq() < 1e-9 * height * height) way.copy(ahead)
    way.normalize()
    const across_ = new Vector3().crossVectors(up, way)
    const low = drop / height - 0.012
    /** A ring from the sole up to `high`: its middle, and half of it. */
    const ring = (t: number, wide: number, high: number) =>
      [t, wide, (high - low) / 2, (high + low) / 2] as const
    const made = foundation(foot, way, across_, [
      ring(-0.042, 0.012, low + 0.024),
      ring(-0.034, 0.021, low + 0.045),
      ring(-0.005, 0.024, 0.012),
      ring(0.45 * length, 0.026, low + 0.045),
      ring(length, 0.029, low + 0.026),
      ...(toe >= 0 ? [ring(length + 0.006, 0.02, low + 0.018)] : [ring(length + 0.02, 0.018, low + 0.016)]),
    ], hatched) // biome-ignore format: a profile
    soles.push(made)
    if (toe < 0) return
    const far = site ? Math.hypot(...site.tip) / height : 0.05
    foundation(toe, way, across_, [
      ring(-0.008, 0.024, low + 0.024),
      ring(0.3 * far, 0.029, low + 0.024),
      ring(0.85 * far, 0.024, low + 0.018),
      ring(far + 0.008, 0.012, low + 0.012),
    ], hatched, -to.dot(up) / height) // biome-ignore format: a profile
  }

  /** Rings on a sole: along a way over the floor, each as high as it says. */
  function foundation(
    joint: number,
    way: Vector3,
    side: Vector3,
    profile: readonly (readonly [number, number, number, number])[],
    hatched: boolean,
    lift = 0,
  ): { at: number; count: number } {
    const [w, s, u] = [into(joint, way), into(joint, side), into(joint, up)]
    const rings = profile.map(([t, wide, deep, middle]) => ({
      centre: w
        .clone()
        .multiplyScalar(t * height)
        .addScaledVector(u, (middle + lift) * height),
      a: s.clone().multiplyScalar(wide * height),
      b: u.clone().multiplyScalar(deep * height),
    }))
    const ends: [Vector3, Vector3] = [rings[0]!.centre.clone(), rings.at(-1)!.centre.clone()]
    ends[0].addScaledVector(w, -0.006 * height)
    ends[1].addScaledVector(w, 0.006 * height)
    return build.add(joint, rings, ends, 10, hatched)
  }
}

function finish(build: Builder, soles: Solids['soles']): Solids {
  return {
    position: new Float32Array(build.position),
    normal: new Float32Array(build.normal),
    hatch: new Float32Array(build.hatch),
    index: build.index,
    solids: build.solids,
    soles,
  }
}
