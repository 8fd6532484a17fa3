/** Where the weight is: the centre of mass, straight below it on the floor, and its path. */
import {
  BufferGeometry,
  Float32BufferAttribute,
  Group,
  LineBasicMaterial,
  LineDashedMaterial,
  LineSegments,
  Points,
  PointsMaterial,
} from 'three'
import {
  emptyWorld,
  forward,
  type Overrides,
  type Poses,
  type WorldPose,
} from '../evaluation/poses'
import type { Drawn } from '../sync/retargeting'
import { token } from '../ui/theme'

/** Half the width of the cross on the floor, metres. */
const CROSS = 0.08

export class Weight {
  readonly group = new Group()
  private dot = new Points(
    new BufferGeometry(),
    new PointsMaterial({ size: 10, sizeAttenuation: false, depthTest: false }),
  )
  private plumb = new LineSegments(
    new BufferGeometry(),
    new LineDashedMaterial({ dashSize: 1, gapSize: 1, depthTest: false }),
  )
  private cross = new LineSegments(new BufferGeometry(), new LineBasicMaterial())
  private path = new LineSegments(new BufferGeometry(), new LineBasicMaterial({ depthTest: false }))
  /** How much each joint's place counts; none where the body is not understood or not shown. */
  private shares: readonly number[] = []

  constructor() {
    for (const part of [this.dot, this.plumb, this.cross, this.path]) {
      part.frustumCulled = false
      part.renderOrder = 2
      this.group.add(part)
    }
  }

  weigh(shares: readonly number[] | null): void {
    this.shares = shares ?? []
  }

  /** As the figure stands; with the path over frames, where there are some. */
  show(
    clip: Pick<Drawn, 'joints' | 'reading'>,
    poses: Poses,
    world: WorldPose,
    frames: readonly number[],
    overrides: (frame: number) => Overrides | undefined,
  ): void {
    this.group.visible = this.shares.length === clip.joints.length
    if (!this.group.visible) return
    const metre = 1 / clip.reading.metres_per_unit
    const up = 'xyz'.indexOf(clip.reading.up_axis)
    const at = this.centre(world)
    const foot = at.map((v, axis) => (axis === up ? 0 : v))
    this.plumb.material.dashSize = this.plumb.material.gapSize = 0.03 * metre
    fill(this.dot, at, 'signal')
    fill(this.plumb, [...at, ...foot], 'ink-2')
    this.plumb.computeLineDistances()
    const arms = [0, 1, 2].flatMap((axis) => {
      if (axis === up) return []
      const [from, to] = [-CROSS, CROSS].map((by) =>
        foot.map((v, k) => (k === axis ? v + by * metre : v)),
      )
      return [...from!, ...to!]
    })
    fill(this.cross, arms, 'signal')
    const lines: number[] = []
    const there = emptyWorld(clip.joints.length)
    let before: number[] | null = null
    for (const f of frames) {
      forward(clip.joints, poses, f, there, overrides(f))
      const now = this.centre(there)
      if (before) lines.push(...before, ...now)
      before = now
    }
    fill(this.path, lines, 'signal')
  }

  private centre({ position }: WorldPose): number[] {
    const out = [0, 0, 0]
    this.shares.forEach((share, j) => {
      for (let k = 0; k < 3; k++) out[k]! += share * position[3 * j + k]!
    })
    return out
  }

  dispose(): void {
    for (const part of [this.dot, this.plumb, this.cross, this.path]) {
      part.geometry.dispose()
      part.material.dispose()
    }
  }
}

function fill(
  part:
    | LineSegments<BufferGeometry, LineBasicMaterial | LineDashedMaterial>
    | Points<BufferGeometry, PointsMaterial>,
  positions: readonly number[],
  colour: string,
): void {
  part.geometry.setAttribute('position', new Float32BufferAttribute([...positions], 3))
  part.material.color.set(token(colour))
}
