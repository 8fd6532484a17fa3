/** Where a figure stands in the rounds of a loop that goes on: what leads it from the range's first
 * frame to its last one, over the floor and about the up axis, as often as it has been round. */
import { Matrix4, Quaternion, Vector3 } from 'three'
import { emptyWorld, forward, type Poses, quatAt, vecAt } from '../evaluation/poses'

type Joints = Parameters<typeof forward>[0]

/** The move of one round in metres, Y up; `space` leads from the figure's own axes there. */
export function lapOf(
  joints: Joints,
  poses: Poses,
  hips: number,
  [first, last]: readonly [number, number],
  space: Matrix4,
): Matrix4 {
  const upright = new Quaternion().setFromRotationMatrix(new Matrix4().extractRotation(space))
  const [from, to] = [first, last].map((frame) => {
    const world = emptyWorld(joints.length)
    forward(joints, poses, frame, world)
    return {
      place: new Vector3(...vecAt(world.position, hips)).applyMatrix4(space).setY(0),
      turn: new Quaternion(...quatAt(world.rotation, hips)).premultiply(upright),
    }
  }) as [Stand, Stand]
  const turned = to.turn.clone().multiply(from.turn.invert())
  const about = new Quaternion(0, turned.y, 0, turned.w)
  if (about.lengthSq() < 1e-12) about.identity()
  about.normalize()
  const by = to.place.sub(from.place.applyQuaternion(about))
  return new Matrix4().compose(by, about, new Vector3(1, 1, 1))
}

interface Stand {
  place: Vector3
  turn: Quaternion
}

/** A move made as often after itself. */
export function times(move: Matrix4, count: number): Matrix4 {
  const out = new Matrix4()
  for (let k = 0; k < count; k++) out.multiply(move)
  return out
}
