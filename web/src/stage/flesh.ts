/** What a figure's body is made of: points that follow its joints. */
import { Quaternion, Vector3 } from 'three'
import type { WorldPose } from '../evaluation/poses'
import { matrixOf } from '../evaluation/rotations'
import type { Skin } from '../evaluation/skin'
import type { Solids } from './solids'

export interface Flesh {
  /** How many points there are. */
  readonly count: number
  readonly index: ArrayLike<number>
  /** 1 where a point is hatched: the left side is told apart without colour. */
  readonly hatch: Float32Array
  /** The points of each sole: where the figure stands. */
  readonly soles: readonly (readonly number[])[]
  /** Points (N, 3) and normals (N, 3) of the surface there, as joints stand. */
  pose(world: WorldPose, points: Float32Array, normals: Float32Array): void
  /** How much of each point some joints carry, 0 to 1. */
  share(joints: ReadonlySet<number>, out: Float32Array): void
}

type Nine = [number, number, number, number, number, number, number, number, number]

const through = (at: number, count: number) => Array.from({ length: count }, (_, k) => at + k)

/** The drawn body: solids that turn with a joint each; a limb leads to its far end. */
export class Drawing implements Flesh {
  readonly count: number
  readonly index: ArrayLike<number>
  readonly hatch: Float32Array
  readonly soles: readonly (readonly number[])[]

  constructor(private solids: Solids) {
    this.count = solids.position.length / 3
    this.index = solids.index
    this.hatch = solids.hatch
    this.soles = solids.soles.map(({ at, count }) => through(at, count))
  }

  pose({ position, rotation }: WorldPose, points: Float32Array, normals: Float32Array): void {
    const { solids, position: at, normal } = this.solids
    const turn = new Quaternion()
    const bend = new Quaternion()
    const [along, rest] = [new Vector3(), new Vector3()]
    for (const solid of solids) {
      const j = solid.joint
      const [ox, oy, oz] = [position[3 * j]!, position[3 * j + 1]!, position[3 * j + 2]!]
      turn.fromArray(rotation, 4 * j)
      let stretch = 1
      if (solid.child >= 0) {
        // The far end may have moved of its own: the limb leads there.
        along.fromArray(position, 3 * solid.child)
        along.x -= ox
        along.y -= oy
        along.z -= oz
        const length = along.length()
        rest.copy(solid.axis).applyQuaternion(turn)
        stretch = length / solid.length
        if (length > 1e-9 && rest.dot(along) < (1 - 1e-6) * length)
          turn.premultiply(bend.setFromUnitVectors(rest, along.divideScalar(length)))
      }
      const m = matrixOf(turn.toArray()).flat() as Nine
      const { axis } = solid
      const more = Math.abs(stretch - 1) > 1e-6 ? stretch - 1 : 0
      for (let i = 3 * solid.at; i < 3 * (solid.at + solid.count); i += 3) {
        let [px, py, pz] = [at[i]!, at[i + 1]!, at[i + 2]!]
        if (more) {
          const by =
            more * Math.min(Math.max(px * axis.x + py * axis.y + pz * axis.z, 0), solid.length)
          px += by * axis.x
          py += by * axis.y
          pz += by * axis.z
        }
        const [nx, ny, nz] = [normal[i]!, normal[i + 1]!, normal[i + 2]!]
        points[i] = ox + m[0] * px + m[1] * py + m[2] * pz
        points[i + 1] = oy + m[3] * px + m[4] * py + m[5] * pz
        points[i + 2] = oz + m[6] * px + m[7] * py + m[8] * pz
        normals[i] = m[0] * nx + m[1] * ny + m[2] * nz
        normals[i + 1] = m[3] * nx + m[4] * ny + m[5] * nz
        normals[i + 2] = m[6] * nx + m[7] * ny + m[8] * nz
      }
    }
  }

  share(joints: ReadonlySet<number>, out: Float32Array): void {
    for (const { joint, at, count } of this.solids.solids)
      out.fill(joints.has(joint) ? 1 : 0, at, at + count)
  }
}

/** A body of its own: the skin that came with the skeleton. */
export class Own implements Flesh {
  readonly count: number
  readonly index: ArrayLike<number>
  readonly hatch: Float32Array
  readonly soles: readonly (readonly number[])[]

  constructor(
    private skin: Skin,
    roles: readonly (string | null)[] | null,
  ) {
    this.count = skin.count
    this.index = skin.triangles
    this.hatch = new Float32Array(skin.count)
    const feet: Record<string, number[]> = { left: [], right: [] }
    for (let n = 0; n < skin.count; n++) {
      const [side, part] = (roles?.[skin.leader(n)] ?? '').split(' ')
      if (side === 'left') this.hatch[n] = 1
      if (part === 'foot' || part === 'toe') feet[side!]?.push(n)
    }
    this.soles = Object.values(feet).filter((foot) => foot.length > 0)
  }

  pose(world: WorldPose, points: Float32Array, normals: Float32Array): void {
    this.skin.pose(world, points, normals)
  }

  share(joints: ReadonlySet<number>, out: Float32Array): void {
    this.skin.share(joints, out)
  }
}
