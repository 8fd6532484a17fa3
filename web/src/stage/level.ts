/** The level plane through a point, on which things are moved over their floor. */
import { Vector3 } from 'three'
import type { Eye } from './Eye'

const UP = new Vector3(0, 1, 0)

/** Where a pointer meets the level plane through a point; null where it looks along it. */
export function onLevel(eye: Eye, event: PointerEvent, at: Vector3): Vector3 | null {
  const ray = eye.ray(event.offsetX, event.offsetY)
  const slope = ray.along.dot(UP)
  if (Math.abs(slope) < 0.01) return null
  const far = at.clone().sub(ray.from).dot(UP) / slope
  return far > 0 ? ray.from.clone().addScaledVector(ray.along, far) : null
}
