/** Paths of joints over a span of frames: a line, a tick a frame, a dot a key, so that spacing
 * is seen. */
import {
  BufferGeometry,
  Float32BufferAttribute,
  Group,
  LineBasicMaterial,
  LineSegments,
  Points,
  PointsMaterial,
} from 'three'
import { emptyWorld, forward, type Overrides, type Poses } from '../evaluation/poses'
import type { Drawn } from '../sync/retargeting'
import { token } from '../ui/theme'

const NO_KEYS: ReadonlySet<number> = new Set()

export class Trails {
  readonly group = new Group()
  private line = new LineSegments(new BufferGeometry(), new LineBasicMaterial())
  private ticks = new Points(
    new BufferGeometry(),
    new PointsMaterial({ size: 3, sizeAttenuation: false }),
  )
  private keys = new Points(
    new BufferGeometry(),
    new PointsMaterial({ size: 8, sizeAttenuation: false }),
  )

  /** Of a figure in a lighter ink, or not. */
  constructor(private pale = false) {
    for (const part of [this.line, this.ticks, this.keys]) {
      part.frustumCulled = false
      part.renderOrder = 1
      this.group.add(part)
    }
  }

  /** The paths of joints over frames of its own that follow one another. */
  show(
    clip: Pick<Drawn, 'joints'>,
    poses: Poses,
    joints: readonly number[],
    frames: readonly number[],
    keysOf: (joint: number) => ReadonlySet<number> = () => NO_KEYS,
    overrides: (frame: number) => Overrides | undefined = () => undefined,
  ): void {
    this.group.visible = joints.length > 0
    if (!joints.length) return
    const world = emptyWorld(clip.joints.length)
    const lines: number[] = []
    const ticks: number[] = []
    const dots: number[] = []
    const before = new Map<number, number[]>()
    for (const f of frames) {
      forward(clip.joints, poses, f, world, overrides(f))
      for (const joint of joints) {
        const at = [...world.position.subarray(3 * joint, 3 * joint + 3)]
        const old = before.get(joint)
        if (old) lines.push(...old, ...at)
        before.set(joint, at)
        ticks.push(...at)
        if (keysOf(joint).has(f)) dots.push(...at)
      }
    }
    fill(this.line, lines, token(this.pale ? 'ink-3' : 'ink-2'))
    fill(this.ticks, ticks, token(this.pale ? 'ink-2' : 'ink'))
    fill(this.keys, dots, token('signal'))
  }

  dispose(): void {
    for (const part of [this.line, this.ticks, this.keys]) {
      part.geometry.dispose()
      part.material.dispose()
    }
  }
}

function fill(
  part: LineSegments<BufferGeometry, LineBasicMaterial> | Points<BufferGeometry, PointsMaterial>,
  positions: number[],
  colour: string,
): void {
  part.geometry.setAttribute('position', new Float32BufferAttribute(positions, 3))
  part.material.color.set(colour)
}
