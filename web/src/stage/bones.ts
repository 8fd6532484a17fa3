/** Which lines of a skeleton are drawn as bones. */
import type { Schemas } from '../api/client'

export interface Bone {
  /** The joint the bone hangs on and turns with. */
  joint: number
  /** The joint at its other end, or -1 with `tip` for an end site. */
  child: number
  tip: [number, number, number]
}

const length = (v: readonly number[]) => Math.hypot(v[0]!, v[1]!, v[2]!)

/** Bones from joints to their children and end sites. A leaf that lies along a sibling's bone
 * (a twist joint) is not drawn: it would double the limb. */
export function bonesOf(
  joints: readonly Schemas['JointOut'][],
  ends: readonly Schemas['EndSiteOut'][],
): Bone[] {
  const children = joints.map((_, j) => joints.flatMap((c, k) => (c.parent === j ? [k] : [])))
  const doubled = joints.map((joint, j) => {
    if (joint.parent < 0 || children[j]!.length > 0) return false
    return children[joint.parent]!.some((s) => {
      if (s === j) return false
      const a = joint.offset
      const b = joints[s]!.offset
      const along = a[0]! * b[0]! + a[1]! * b[1]! + a[2]! * b[2]!
      return length(b) > length(a) && along > 0.98 * length(a) * length(b)
    })
  })
  const bones: Bone[] = []
  joints.forEach((joint, j) => {
    if (joint.parent >= 0 && !doubled[j] && length(joint.offset) > 1e-9)
      bones.push({ joint: joint.parent, child: j, tip: [0, 0, 0] })
  })
  for (const end of ends) {
    if (!doubled[end.parent] && length(end.offset) > 1e-9)
      bones.push({ joint: end.parent, child: -1, tip: end.offset as [number, number, number] })
  }
  return bones
}

/** How far a point of a picture is from the line between two others. */
export function awayFrom(
  [x, y]: readonly [number, number],
  [ax, ay]: readonly [number, number],
  [bx, by]: readonly [number, number],
): number {
  const [dx, dy] = [bx - ax, by - ay]
  const along = ((x - ax) * dx + (y - ay) * dy) / Math.max(dx * dx + dy * dy, 1e-9)
  const t = Math.min(Math.max(along, 0), 1)
  return Math.hypot(x - ax - t * dx, y - ay - t * dy)
}
