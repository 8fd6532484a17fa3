/** Plants while something is dragged: limbs solved again in the browser, at the frame that is shown.
 *
 * The server's plan says how each limb is corrected on each frame, and how its joints stand below.
 * Where a plant holds its place is kept; where it only comes or goes its correction is.
 */
import type { Message } from '../api/safetensors'
import { add, arc, length, reach, sub, times, type Vec } from './limb'
import type { Clip } from './model'
import {
  emptyWorld,
  forward,
  type Overrides,
  type Poses,
  posesOf,
  quatAt,
  vecAt,
  type WorldPose,
} from './poses'
import { inverse, multiply, type Quat, rotate, turned } from './rotations'

const HEEL = 1
const TOE = 2
const TURN = 4

interface PlannedLimb {
  name: string
  /** Three of a limb of two bones; those of longer chains the server solves alone. */
  joints: number[]
  ball: number | null
  sole: Vec | null
  hinge: Vec
  shift: Float32Array
  turn: Float32Array
  /** How much it is held on each frame, by what, and with which joint. */
  share: Float32Array
  by: Uint8Array
  with: Int32Array
}

export interface Plan {
  clip: number
  revision: number
  limbs: PlannedLimb[]
  carrier: number | null
  lowered: Float32Array
  /** Poses of the joints that plants turn or move, as they stand without plants. */
  joints: Int32Array
  below: Poses
}

export function planOf(clip: Clip, message: Message): Plan {
  const get = (name: string) => message.arrays.get(name)!.data
  const joints = get('joints') as Int32Array
  const about = message.about as unknown as {
    carrier: number | null
    limbs: Pick<PlannedLimb, 'name' | 'joints' | 'ball' | 'sole' | 'hinge'>[]
  }
  const frames = (get('lowered') as Float32Array).length
  return {
    clip: clip.id,
    revision: clip.head.id,
    carrier: about.carrier,
    lowered: get('lowered') as Float32Array,
    joints,
    below: posesOf({ ...message, about: { frames } }, joints.length),
    limbs: about.limbs.map((limb, k) => ({
      ...limb,
      shift: get(`limb/${k}/shift`) as Float32Array,
      turn: get(`limb/${k}/turn`) as Float32Array,
      share: get(`limb/${k}/share`) as Float32Array,
      by: get(`limb/${k}/by`) as Uint8Array,
      with: get(`limb/${k}/with`) as Int32Array,
    })),
  }
}

interface Local {
  rotation: readonly number[]
  translation: readonly number[]
}

/** What is dragged, with the limbs that plants hold solved over it. */
export function solvedOver(
  clip: Clip,
  poses: Poses,
  { limbs, carrier, lowered, joints, below }: Plan,
  frame: number,
  overrides: Overrides,
): Overrides {
  const f = Math.min(Math.max(Math.round(frame), 0), below.frames - 1)
  // As it all stands below: before the drag, and with it.
  const standing = new Map<number, Local>()
  joints.forEach((joint, k) => {
    const slot = below.moving.indexOf(joint)
    standing.set(joint, {
      rotation: quatAt(below.rotation, f * below.joints + k),
      translation:
        slot < 0
          ? clip.joints[joint]!.offset
          : vecAt(below.translation, f * below.moving.length + slot),
    })
  })
  const was = emptyWorld(clip.joints.length)
  forward(clip.joints, poses, f, was, standing)
  const out = new Map<number, Local>([...standing, ...overrides])
  const now = emptyWorld(clip.joints.length)
  forward(clip.joints, poses, f, now, out)
  const corrections = limbs.map((limb) => corrected(limb, f, was, now))
  if (carrier !== null && lowered[f]! > 0) {
    // The hips are as far down as they were: how far they go now the server says.
    const up: Vec = [0, 0, 0]
    up['xyz'.indexOf(clip.reading.up_axis)] = -lowered[f]!
    const parent = clip.joints[carrier]!.parent
    const back = parent < 0 ? up : rotate(inverse(quatAt(now.rotation, parent)), up)
    const own = out.get(carrier)!
    out.set(carrier, { ...own, translation: add([...own.translation] as Vec, back) })
    forward(clip.joints, poses, f, now, out)
  }
  limbs.forEach((limb, k) => {
    if (limb.joints.length !== 3) return
    const { target, end } = corrections[k]!
    const [upper, middle, last] = limb.joints as [number, number, number]
    const points = limb.joints.map((j) => vecAt(now.position, j)) as [Vec, Vec, Vec]
    if (!limb.by[f] && !isLed(limb, f) && !(lowered[f]! > 0 && limb.name.endsWith('leg'))) return
    const [first, second] = reach(
      [quatAt(now.rotation, upper), quatAt(now.rotation, middle)],
      points,
      target,
      limb.hinge,
    )
    const parent = clip.joints[upper]!.parent
    const above: Quat = parent < 0 ? [0, 0, 0, 1] : quatAt(now.rotation, parent)
    // Twist joints may lie between: they ride along as they are turned.
    const ridden = (top: number, to: Quat, low: number): Quat => {
      const up = clip.joints[low]!.parent
      if (up === top) return to
      return multiply(to, multiply(inverse(quatAt(now.rotation, top)), quatAt(now.rotation, up)))
    }
    for (const [joint, from, to] of [
      [upper, above, first],
      [middle, ridden(upper, first, middle), second],
      [last, ridden(middle, second, last), end],
    ] as const)
      out.set(joint, { ...out.get(joint)!, rotation: multiply(inverse(from), to) })
    forward(clip.joints, poses, f, now, out)
  })
  return out
}

const isLed = ({ shift, turn }: PlannedLimb, f: number): boolean =>
  [...vecAt(shift, f), ...vecAt(turn, f)].some((v) => v !== 0)

/** Where a limb's end shall be on a frame, and how it is turned. */
function corrected(
  limb: PlannedLimb,
  f: number,
  was: WorldPose,
  now: WorldPose,
): { target: Vec; end: Quat } {
  const last = limb.joints.at(-1)!
  const before = standOf(limb, was)
  const here = standOf(limb, now)
  const share = limb.share[f]!
  const by = limb.by[f]!
  let turn = exp(vecAt(limb.turn, f))
  let shift = vecAt(limb.shift, f)
  if (by && share > 0) {
    const swung = rotate(turn, before.arm)
    const { carry, turned: carriedTurn } = carried(limb.with[f]!, was, now)
    if (by & TURN) {
      const goal = multiply(carriedTurn, multiply(turn, quatAt(was.rotation, last)))
      turn = multiply(goal, inverse(quatAt(now.rotation, last)))
    } else if ((by & HEEL) !== 0 && (by & TOE) !== 0) {
      turn = arc(here.arm, swung, rotate(quatAt(now.rotation, last), [1, 0, 0]))
    }
    const swings = rotate(turn, here.arm)
    if (by & TOE) {
      const place = carry(add(before.ball, times(shift, 1 / share)))
      shift = times(sub(place, here.ball), share)
    } else {
      const led = sub(add(before.ball, shift), swung)
      const place = carry(add(before.end, times(sub(led, before.end), 1 / share)))
      const leads = add(here.end, times(sub(place, here.end), share))
      shift = sub(add(leads, swings), here.ball)
    }
  }
  const target = sub(add(here.ball, shift), rotate(turn, here.arm))
  return { target, end: multiply(turn, quatAt(now.rotation, last)) }
}

/** Where a limb's end and its second point are, and what lies between them. */
function standOf(limb: PlannedLimb, world: WorldPose) {
  const last = limb.joints.at(-1)!
  const end = vecAt(world.position, last)
  const ball =
    limb.ball !== null
      ? vecAt(world.position, limb.ball)
      : limb.sole
        ? add(end, rotate(quatAt(world.rotation, last), limb.sole))
        : end
  return { end, ball, arm: sub(ball, end) }
}

/** How what a part is held with carries its place along. */
function carried(
  joint: number,
  was: WorldPose,
  now: WorldPose,
): { carry: (place: Vec) => Vec; turned: Quat } {
  if (joint < 0) return { carry: (place) => place, turned: [0, 0, 0, 1] }
  const by = multiply(quatAt(now.rotation, joint), inverse(quatAt(was.rotation, joint)))
  const from = vecAt(was.position, joint)
  const to = vecAt(now.position, joint)
  return { carry: (place) => add(to, rotate(by, sub(place, from))), turned: by }
}

/** The rotation of a rotation vector in degrees. */
function exp(vector: Vec): Quat {
  const angle = length(vector)
  return angle < 1e-12 ? [0, 0, 0, 1] : turned(times(vector, 1 / angle), angle)
}
