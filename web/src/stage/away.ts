/** The way to what is out of sight. */
import type { Vector3 } from 'three'
import type { Eye } from './Eye'

/** Where beyond the edge of a view something is: a place at the edge, in pixels of the stage, and
 * the direction in radians, clockwise from the right. */
export interface Away {
  x: number
  y: number
  angle: number
}

/** Of the middle of a button at the edge, how far inside it stays. */
const [ASIDE, ABOVE] = [46, 26]

/** The way to one of some joints, places in metres, where none of them is in a view that begins
 * `from` pixels from the stage's left; null where one is. */
export function awayFromView(
  { camera, size: [width, height] }: Eye,
  joints: number,
  place: (joint: number) => Vector3,
  chosen: number,
  from: number,
): Away | null {
  for (let joint = 0; joint < joints; joint++) {
    const { x, y, z } = place(joint).project(camera)
    if (Math.abs(x) <= 1 && Math.abs(y) <= 1 && z < 1) return null
  }
  const local = place(chosen).applyMatrix4(camera.matrixWorldInverse)
  const way = Math.hypot(local.x, local.y) || 1
  const [dx, dy] = [local.x / way, -local.y / way]
  const reach = Math.min(
    (width / 2 - ASIDE) / Math.max(Math.abs(dx), 1e-6),
    (height / 2 - ABOVE) / Math.max(Math.abs(dy), 1e-6),
  )
  return {
    x: from + width / 2 + dx * reach,
    y: height / 2 + dy * reach,
    angle: Math.atan2(dy, dx),
  }
}
