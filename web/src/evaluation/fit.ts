/** How one figure lies best on another: turned about the up axis and moved over the floor. */
import type { WorldPose } from './poses'

/** A turn about the up axis in radians, then a move, in the skeleton's unit. */
export interface Fit {
  turn: number
  by: [number, number, number]
}

/** How a pose is laid on another one by some of its joints, in closed form (Kovar, Gleicher and
 * Pighin, Motion Graphs, 2002); heights stay as they are. */
export function fitOf(a: WorldPose, b: WorldPose, joints: readonly number[], up: number): Fit {
  const [x, z] = [(up + 1) % 3, (up + 2) % 3]
  const n = Math.max(1, joints.length)
  const mean = (p: WorldPose, axis: number) =>
    joints.reduce((sum, j) => sum + p.position[3 * j + axis]!, 0) / n
  const [ax, az, bx, bz] = [mean(a, x), mean(a, z), mean(b, x), mean(b, z)]
  let [dot, cross] = [0, 0]
  for (const j of joints) {
    const [px, pz] = [a.position[3 * j + x]! - ax, a.position[3 * j + z]! - az]
    const [qx, qz] = [b.position[3 * j + x]! - bx, b.position[3 * j + z]! - bz]
    dot += px * qx + pz * qz
    cross += pz * qx - px * qz
  }
  const turn = Math.atan2(cross, dot)
  const by: [number, number, number] = [0, 0, 0]
  by[x] = ax - (Math.cos(turn) * bx - Math.sin(turn) * bz)
  by[z] = az - (Math.sin(turn) * bx + Math.cos(turn) * bz)
  return { turn, by }
}
