/** Ends pulled on the stage: the limb follows by two bones, and the body by weights.
 *
 * What comes out are rotations of joints at now, kept or keyed as any other posing is.
 */
import { answer, client, type Schemas } from '../api/client'
import { beneath, inFigure, layersOn } from '../evaluation/layering'
import { add, cross, dot, length, reach, sub, times, type Vec } from '../evaluation/limb'
import { quatAt, vecAt, type WorldPose } from '../evaluation/poses'
import {
  inverse,
  type JointPose,
  multiply,
  type Quat,
  rotate,
  turned,
} from '../evaluation/rotations'
import { bringCurves } from '../sync/confirmed'
import { useBench } from '../view/bench'
import { seen } from '../view/layerChoice'
import { type Change, changeFor, poseToHand, usePosing } from './posing'

type Limb = Schemas['LimbOut']

/** The limbs of a clip: how they bend as a rule hardly changes, but what its joints are may. */
let known: { read: string; limbs: Limb[] } | null = null

/** A clip as it is read: what its joints are hangs on nothing else. */
const readAs = (): string => {
  const { clip } = useBench.getState()
  return clip ? `${clip.id} ${JSON.stringify(clip.reading)}` : ''
}

async function bringLimbs(): Promise<void> {
  const { clip } = useBench.getState()
  const read = readAs()
  if (!clip || known?.read === read) return
  const params = { path: { clip_id: clip.id }, query: { revision: clip.head.id } }
  const limbs = await answer(client.GET('/api/clips/{clip_id}/limbs', { params }))
  if (readAs() === read) known = { read, limbs }
}

const limbs = (): Limb[] => (known && known.read === readAs() ? known.limbs : [])

/** The hips' joint, -1 where none is known. */
export const hipsOf = (): number =>
  useBench.getState().body?.joints.findIndex((j) => j.role === 'hips') ?? -1

function chainOf(joint: number): number[] {
  const { clip } = useBench.getState()
  const out: number[] = []
  for (let j = joint; j >= 0; j = clip!.joints[j]!.parent) out.push(j)
  return out
}

/** Whether a joint can be pulled: it has something above it that can turn. */
export const isPulled = (joint: number): boolean => bendable(joint).length > 0

/** The joints above one that turn about three axes, below the hips: those that follow it. */
function bendable(joint: number): number[] {
  const hips = hipsOf()
  const above = chainOf(joint).slice(1)
  const until = above.indexOf(hips)
  return above.slice(0, until < 0 ? above.length - 1 : until).filter(canTurn)
}

/** All that has to be here before ends of the selection can be pulled: limbs, and their curves. */
export async function readyToPull(joints: readonly number[]): Promise<void> {
  await bringLimbs()
  await bringCurves(new Set(joints.flatMap(chainOf)))
}

interface End {
  joint: number
  at: Vec
  /** The limb that it ends, or whose knee or elbow it is. */
  limb: Limb | undefined
  bends: boolean
}

/** Ends as they stood when they were taken hold of, in a figure as it stood. */
export interface Pull {
  ends: End[]
  world: WorldPose
  /** Where the hips were then, by their own channels. */
  hips: readonly number[]
  /** What takes keys of each joint then, and how it was seen: a turn beneath layers is another. */
  stood: ReadonlyMap<number, { own: Quat; seen: Quat }>
  /** How near each limb is to its length, 0 to 1, and by how much it is missed, own unit. */
  told: { reach: number; missed: number }
}

export function begunPull(joints: readonly number[], world: WorldPose): Pull {
  const ends = joints.filter(isPulled).map((joint) => {
    const limb = limbs().find((x) => x.joints[2] === joint || x.joints[1] === joint)
    return { joint, at: vecAt(world.position, joint), limb, bends: limb?.joints[1] === joint }
  })
  const hips = poseToHand(hipsOf())?.translation ?? [0, 0, 0]
  const stood = new Map<number, { own: Quat; seen: Quat }>()
  useBench.getState().clip!.joints.forEach(({ parent }, joint) => {
    const own = poseToHand(joint)
    if (!own) return
    const above: Quat = parent < 0 ? [0, 0, 0, 1] : quatAt(world.rotation, parent)
    const seen = multiply(inverse(above), quatAt(world.rotation, joint))
    stood.set(joint, { own: own.rotation, seen })
  })
  return { ends, world, hips, stood, told: { reach: 0, missed: 0 } }
}

/** How near a pulled limb is to its length, in words; empty while it has room. */
export function reachText({ told }: Pull): string {
  const { metres_per_unit } = useBench.getState().clip!.reading
  const cm = told.missed * metres_per_unit * 100
  if (cm > 0.05) return ` · out of reach by ${cm.toFixed(1)} cm`
  return told.reach > 0.93 ? ` · ${Math.round(100 * told.reach)} % of its reach` : ''
}

/** A figure that is bent: world rotations and positions, joints below following. */
class Bent {
  readonly position: Vec[]
  readonly rotation: Quat[]
  readonly touched = new Set<number>()
  /** How far the hips have been moved. */
  shifted: Vec = [0, 0, 0]

  constructor(
    world: WorldPose,
    private parents: readonly number[],
    readonly hips: number,
  ) {
    this.position = parents.map((_, j) => vecAt(world.position, j))
    this.rotation = parents.map((_, j) => quatAt(world.rotation, j))
  }

  private under(joint: number): number[] {
    const below = new Set([joint])
    // Parents stand before their children.
    this.parents.forEach((p, j) => {
      if (below.has(p)) below.add(j)
    })
    return [...below]
  }

  /** Turn a joint and all below it about where it is. */
  turn(joint: number, by: Quat): void {
    const at = this.position[joint]!
    for (const j of this.under(joint)) {
      this.position[j] = add(at, rotate(by, sub(this.position[j]!, at)))
      this.rotation[j] = multiply(by, this.rotation[j]!)
    }
    this.touched.add(joint)
  }

  /** Move the hips and all below them. */
  shift(by: Vec): void {
    for (const j of this.under(this.hips)) this.position[j] = add(this.position[j]!, by)
    this.shifted = add(this.shifted, by)
  }

  /** Give a joint a world rotation, what hangs below it following. */
  set(joint: number, to: Quat): void {
    this.turn(joint, multiply(to, inverse(this.rotation[joint]!)))
  }
}

const ROUNDS = 24
const DAMPING = 1e-3
const MOST = (15 * Math.PI) / 180 // in a round
/** Of an end's way with the body: what the hips go, the rest being turns of the spine. */
const HIPS = 0.4

/** Turn a chain's joints, and move the hips, so that an end comes to a target by the least turning:
 * damped least squares over the joints' rotation vectors, a part of the way in each round. */
function follow(
  bent: Bent,
  chain: readonly number[],
  end: number,
  target: Vec,
  hips: boolean,
): void {
  for (let round = 0; round < ROUNDS; round++) {
    const left = times(sub(target, bent.position[end]!), 1 / (ROUNDS - round))
    if (length(left) < 1e-6) return
    const arms = chain.map((joint) => sub(bent.position[end]!, bent.position[joint]!))
    const whole = arms.reduce((sum, arm) => sum + dot(arm, arm), 0)
    const turns = whole > 1e-9 ? (hips ? 1 - HIPS : 1) / whole : 0
    // How far the end goes for a push: by the hips as it is, by each turn square to its arm.
    const m = [0, 1, 2].map((i) =>
      [0, 1, 2].map((k) => {
        const same = i === k ? 1 : 0
        const turned = arms.reduce((sum, r) => sum + same * dot(r, r) - r[i]! * r[k]!, 0)
        return turns * turned + same * ((hips ? HIPS : 0) + DAMPING)
      }),
    )
    const push = solved(m, left)
    if (hips) bent.shift(times(push, HIPS))
    chain.forEach((joint, k) => {
      const by = times(cross(arms[k]!, push), turns)
      const size = length(by)
      const angle = (Math.min(size, MOST) * 180) / Math.PI
      if (size > 1e-12) bent.turn(joint, turned(times(by, 1 / size), angle))
    })
  }
}

/** What a symmetric matrix makes of which vector a given one. */
function solved(m: number[][], to: Vec): Vec {
  const [a, b, c] = m.map((row) => row as Vec) as [Vec, Vec, Vec]
  const whole = dot(a, cross(b, c))
  const of = (x: Vec, y: Vec, z: Vec) => dot(x, cross(y, z)) / whole
  // Columns are rows: it is symmetric.
  return [of(to, b, c), of(a, to, c), of(a, b, to)]
}

/** What has to be changed of all joints that follow where ends are pulled by a vector, own unit. */
export function pulledBy(pull: Pull, by: readonly number[]): Change {
  const { clip } = useBench.getState()
  const { body } = usePosing.getState()
  const parents = clip!.joints.map((j) => j.parent)
  const bent = new Bent(pull.world, parents, hipsOf())
  pull.told = { reach: 0, missed: 0 }
  const targets = pull.ends.map(({ at }) => add(at, [by[0]!, by[1]!, by[2]!]))
  if (body > 0)
    pull.ends.forEach((end, k) => {
      if (end.bends) return
      // The body goes its share of the way with the limb as it is.
      const top = end.limb ? end.limb.joints[0]! : end.joint
      const share = sub(targets[k]!, times(sub(targets[k]!, end.at), 1 - body))
      const along = chainOf(top).slice(1)
      const stop = along.indexOf(bent.hips)
      const spine = stop < 0 ? [] : along.slice(0, stop)
      follow(bent, spine.filter(canTurn), end.joint, share, bent.hips >= 0)
    })
  pull.ends.forEach((end, k) => {
    const target = targets[k]!
    if (end.limb && end.bends) swing(bent, end.limb, target)
    else if (end.limb) lead(bent, end.limb, target, pull)
    else {
      follow(bent, bendable(end.joint), end.joint, target, false)
      pull.told.missed = Math.max(pull.told.missed, missedBy(bent, end.joint, target))
    }
  })
  return changeFor(posesOf(bent, parents, pull))
}

const canTurn = (joint: number): boolean =>
  useBench.getState().clip!.joints[joint]!.channels.filter((c) => c[0] === 'r').length === 3

const missedBy = (bent: Bent, joint: number, target: Vec): number => {
  const off = length(sub(bent.position[joint]!, target))
  return off < 1e-3 ? 0 : off
}

/** A limb's end brought to a target, its own rotation kept. */
function lead(bent: Bent, limb: Limb, target: Vec, pull: Pull): void {
  const [upper, middle, end] = limb.joints as [number, number, number]
  const points = [upper, middle, end].map((j) => bent.position[j]!) as [Vec, Vec, Vec]
  const kept = bent.rotation[end]!
  const [first, second] = reach(
    [bent.rotation[upper]!, bent.rotation[middle]!],
    points,
    target,
    limb.hinge as Vec,
  )
  bent.set(upper, first)
  bent.set(middle, second)
  bent.set(end, kept)
  const whole = length(sub(points[1], points[0])) + length(sub(points[2], points[1]))
  const far = length(sub(bent.position[end]!, bent.position[upper]!))
  pull.told.reach = Math.max(pull.told.reach, far / whole)
  pull.told.missed = Math.max(pull.told.missed, missedBy(bent, end, target))
}

/** A knee or an elbow swung about the line from the limb's root to its end, towards a target. */
function swing(bent: Bent, limb: Limb, target: Vec): void {
  const [upper, middle, end] = limb.joints as [number, number, number]
  const line = sub(bent.position[end]!, bent.position[upper]!)
  const size = length(line)
  if (size < 1e-9) return
  const axis = times(line, 1 / size)
  const square = (to: Vec): Vec => {
    const away = sub(to, bent.position[upper]!)
    return sub(away, times(axis, dot(away, axis)))
  }
  const [from, to] = [square(bent.position[middle]!), square(target)]
  const angle = (Math.atan2(dot(cross(from, to), axis), dot(from, to)) * 180) / Math.PI
  const kept = bent.rotation[end]!
  bent.turn(upper, turned(axis, angle))
  bent.set(end, kept)
  bent.touched.add(middle)
}

/** How all joints that were bent stand. */
function posesOf(
  bent: Bent,
  parents: readonly number[],
  { hips, stood }: Pull,
): Map<number, JointPose> {
  const out = new Map<number, JointPose>()
  const joints = new Set(bent.touched)
  const moved = length(bent.shifted) > 0
  if (moved) joints.add(bent.hips)
  for (const joint of joints) {
    const own = poseToHand(joint)
    if (!own) continue
    const parent = parents[joint]!
    const above: Quat = parent < 0 ? [0, 0, 0, 1] : bent.rotation[parent]!
    const wanted = multiply(inverse(above), bent.rotation[joint]!)
    const was = stood.get(joint)
    const rotation = was ? beneath(was.own, was.seen, wanted, figured(joint)) : wanted
    const translation: Vec =
      joint === bent.hips ? add(hips as Vec, rotate(inverse(above), bent.shifted)) : own.translation
    out.set(joint, { rotation, translation })
  }
  return out
}

/** Whether a layer turns a joint about the figure's axes. */
const figured = (joint: number): boolean =>
  layersOn(seen(useBench.getState().clip!), joint).some(inFigure)

// What pulling needs is brought as soon as it is chosen.
const ready = () => {
  const { on, mode } = usePosing.getState()
  const { joints } = useBench.getState()
  if (on && mode === 'pull') void readyToPull(joints).catch(() => {})
}
usePosing.subscribe(({ mode, on }, before) => {
  if (mode !== before.mode || on !== before.on) ready()
})
useBench.subscribe(({ joints }, before) => {
  if (joints !== before.joints) ready()
})
