/** A figure of ink-outlined bones. */
import {
  BackSide,
  BufferGeometry,
  Color,
  Float32BufferAttribute,
  Group,
  InstancedMesh,
  Matrix4,
  MeshBasicMaterial,
  Quaternion,
  Vector3,
} from 'three'
import type { Clip } from '../clip/bench'
import { emptyWorld, forward, type Overrides, type Poses, type WorldPose } from '../clip/poses'
import { token } from '../ui/theme'
import type { Bone } from './bones'

const UP = new Vector3(0, 1, 0)

/** A spindle along +Y from 0 to 1, widest at a fifth, four-sided. */
function spindle(): BufferGeometry {
  const w = 1
  const ring = [
    [w, 0.2, 0],
    [0, 0.2, w],
    [-w, 0.2, 0],
    [0, 0.2, -w],
  ]
  const points: number[] = []
  for (let i = 0; i < 4; i++) {
    const a = ring[i]!
    const b = ring[(i + 1) % 4]!
    points.push(0, 0, 0, ...a, ...b, 0, 1, 0, ...b, ...a)
  }
  const geometry = new BufferGeometry()
  geometry.setAttribute('position', new Float32BufferAttribute(points, 3))
  return geometry
}

export class Figure {
  readonly group = new Group()
  readonly world: WorldPose
  private fill: InstancedMesh
  private outline: InstancedMesh
  private widths: number[]
  /** Thickness of the ink outline, in the skeleton's unit. */
  line = 0

  constructor(
    private clip: Clip,
    private bones: Bone[],
    /** How firmly it is drawn: 1 for the figure itself, less for ghosts. */
    private opacity = 1,
  ) {
    this.world = emptyWorld(clip.joints.length)
    const shape = spindle()
    const ghost = opacity < 1
    // A ghost lies behind the figure where both are in one place.
    const behind = { polygonOffset: ghost, polygonOffsetFactor: 6, polygonOffsetUnits: 6 }
    const see = { transparent: ghost, opacity, depthWrite: !ghost, ...behind }
    this.fill = new InstancedMesh(shape, new MeshBasicMaterial(see), Math.max(bones.length, 1))
    this.outline = new InstancedMesh(
      shape,
      new MeshBasicMaterial({ ...see, side: BackSide }),
      Math.max(bones.length, 1),
    )
    this.fill.frustumCulled = this.outline.frustumCulled = false
    this.fill.visible = !ghost
    this.group.add(this.outline, this.fill)
    const height = clip.height || 1
    this.widths = bones.map((bone) => {
      const offset = bone.child >= 0 ? clip.joints[bone.child]!.offset : bone.tip
      const length = Math.hypot(offset[0]!, offset[1]!, offset[2]!)
      return Math.min(Math.max(0.13 * length, 0.0035 * height), 0.03 * height)
    })
  }

  pose(poses: Poses, frame: number, overrides?: Overrides): void {
    forward(this.clip.joints, poses, frame, this.world, overrides)
    const { position, rotation } = this.world
    const from = new Vector3()
    const to = new Vector3()
    const along = new Vector3()
    const turn = new Quaternion()
    const bare = new Quaternion()
    const matrix = new Matrix4()
    const scale = new Vector3()
    const { line } = this
    this.bones.forEach((bone, k) => {
      from.fromArray(position, 3 * bone.joint)
      if (bone.child >= 0) to.fromArray(position, 3 * bone.child)
      else {
        turn.fromArray(rotation, 4 * bone.joint)
        to.fromArray(bone.tip).applyQuaternion(turn).add(from)
      }
      along.subVectors(to, from)
      const length = along.length()
      bare.setFromUnitVectors(UP, along.divideScalar(length || 1))
      const width = this.widths[k]!
      this.fill.setMatrixAt(k, matrix.compose(from, bare, scale.set(width, length, width)))
      // The hull's sides are slanted: 1.5 of the line keeps its projection a line wide.
      const wide = width + 1.5 * line
      from.addScaledVector(along, -2 * line)
      this.outline.setMatrixAt(
        k,
        matrix.compose(from, bare, scale.set(wide, length + 4 * line, wide)),
      )
    })
    this.fill.instanceMatrix.needsUpdate = true
    this.outline.instanceMatrix.needsUpdate = true
  }

  colour(selected: ReadonlySet<number>): void {
    const paper = new Color(token('raised'))
    const ink = new Color(token(this.opacity < 1 ? 'ghost' : 'ink'))
    const calm = new Color(token('calm'))
    this.bones.forEach((bone, k) => {
      const chosen = selected.has(bone.joint) && this.opacity === 1
      this.fill.setColorAt(k, chosen ? calm : paper)
      this.outline.setColorAt(k, chosen ? calm : ink)
    })
    if (this.fill.instanceColor) this.fill.instanceColor.needsUpdate = true
    if (this.outline.instanceColor) this.outline.instanceColor.needsUpdate = true
  }

  dispose(): void {
    this.fill.geometry.dispose()
    for (const mesh of [this.fill, this.outline]) {
      ;(mesh.material as MeshBasicMaterial).dispose()
      mesh.dispose()
    }
  }
}
