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
import type { Clip } from '../evaluation/model'
import { emptyWorld, forward, type Overrides, type Poses } from '../evaluation/poses'
import { token } from '../ui/theme'

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

  constructor() {
    for (const part of [this.line, this.ticks, this.keys]) {
      part.frustumCulled = false
      part.renderOrder = 1
      this.group.add(part)
    }
  }

  show(
    clip: Clip,
    poses: Poses,
    joints: readonly number[],
    first: number,
    last: number,
    keysOf: (joint: number) => ReadonlySet<number>,
    overrides: (frame: number) => Overrides | undefined,
  ): void {
    this.group.visible = joints.length > 0
    if (!joints.length) return
    const world = emptyWorld(clip.joints.length)
    const lines: number[] = []
    const ticks: number[] = []
    const dots: number[] = []
    const before = new Map<number, number[]>()
    for (let f = first; f <= last; f++) {
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
    fill(this.line, lines, token('ink-2'))
    fill(this.ticks, ticks, token('ink'))
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
