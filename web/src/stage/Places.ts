/** Where plants hold, on the stage: an outline of the foot on its floor, a cross for a hand. */
import {
  BufferGeometry,
  Float32BufferAttribute,
  Group,
  LineBasicMaterial,
  LineSegments,
  Vector3,
} from 'three'
import type { Clip, Plant } from '../evaluation/model'
import { type Poses, quatAt, type WorldPose } from '../evaluation/poses'
import { rotate } from '../evaluation/rotations'
import { token } from '../ui/theme'
import type { Eye } from './Eye'

const SOLE = 28
/** Of a foot's length from ankle to ball: how far its sole goes on before and behind, how wide. */
const [BEHIND, BEFORE, HALF] = [0.45, 0.75, 0.34]
const REACH = 14 // pixels

export interface Placed {
  plant: Plant
  at: Vector3
}

export class Places {
  readonly group = new Group()
  private lines = [false, true].map((chosen) => {
    const material = new LineBasicMaterial({ depthTest: false, transparent: true })
    material.opacity = chosen ? 1 : 0.5
    const drawn = new LineSegments(new BufferGeometry(), material)
    drawn.frustumCulled = false
    drawn.renderOrder = 2
    this.group.add(drawn)
    return drawn
  })
  placed: readonly Placed[] = []
  /** The plant that is dragged, and by how much. */
  dragged: { plant: Plant; by: Vector3 } | null = null

  hide(): void {
    this.placed = []
    this.group.visible = false
  }

  /** Those that hold, come or go at a frame. `joints` are feet's ankles and balls by part. */
  show(
    clip: Clip,
    world: WorldPose,
    poses: Poses,
    frame: number,
    chosen: Plant | null,
    joints: ReadonlyMap<string, number>,
  ): void {
    this.group.visible = true
    const here = clip.plants.filter(
      (p) => !p.muted && p.first - p.ease_in <= frame && frame <= p.last + p.ease_out,
    )
    this.placed = here.map((plant) => ({
      plant,
      at: this.placeOf(clip, world, poses, frame, plant),
    }))
    const segments: [number[], number[]] = [[], []]
    const done = new Set<Plant>()
    for (const { plant, at } of this.placed) {
      if (done.has(plant)) continue
      const [side] = plant.part.split(' ')
      const heel = joints.get(`${side} heel`)
      const toe = joints.get(`${side} toe`)
      if (!/ (heel|toe|foot)$/.test(plant.part) || heel === undefined || toe === undefined) {
        segments[plant === chosen ? 1 : 0].push(...cross(at, 0.03 * (clip.height || 1)))
        continue
      }
      const mates = this.placed.filter((p) => p.plant.part.startsWith(`${side} `))
      const heelAt = mates.find((p) => !p.plant.part.endsWith(' toe'))
      const toeAt = mates.find((p) => p.plant.part.endsWith(' toe'))
      for (const m of mates) done.add(m.plant)
      const away = vector(world, toe).sub(vector(world, heel))
      const from = heelAt?.at.clone() ?? toeAt!.at.clone().sub(away)
      const to = toeAt?.at.clone() ?? heelAt!.at.clone().add(away)
      const up = 'xyz'.indexOf(clip.reading.up_axis)
      const floor = Math.min(from.getComponent(up), to.getComponent(up))
      const lit = mates.some((m) => m.plant === chosen)
      segments[lit ? 1 : 0].push(...sole(from, to, up, floor))
      for (const m of mates)
        segments[m.plant === chosen ? 1 : 0].push(...cross(m.at, 0.2 * away.length()))
    }
    this.lines.forEach((drawn, k) => {
      drawn.geometry.setAttribute('position', new Float32BufferAttribute(segments[k]!, 3))
      ;(drawn.material as LineBasicMaterial).color.set(token(k ? 'signal' : 'ink'))
    })
  }

  private placeOf(
    clip: Clip,
    world: WorldPose,
    poses: Poses,
    frame: number,
    plant: Plant,
  ): Vector3 {
    let at = new Vector3(...(plant.place as [number, number, number]))
    const joint = plant.with_joint ? clip.joints.findIndex((j) => j.name === plant.with_joint) : -1
    if (joint >= 0) {
      at = new Vector3(...rotate(quatAt(world.rotation, joint), plant.place))
      at.add(vector(world, joint))
    }
    const prop = clip.props.findIndex((p) => p.name === plant.with_prop)
    if (plant.with_prop && prop >= 0 && poses.props) {
      const k = Math.min(frame, poses.frames - 1) * clip.props.length + prop
      at = new Vector3(...rotate(quatAt(poses.props.rotation, k), plant.place))
      at.add(new Vector3().fromArray(poses.props.place, 3 * k))
    }
    return this.dragged?.plant === plant ? at.add(this.dragged.by) : at
  }

  /** The plant whose place is under a pixel. */
  pick(eye: Eye, x: number, y: number): Placed | null {
    if (!this.group.visible) return null
    let best: Placed | null = null
    let near = REACH
    for (const placed of this.placed) {
      const [px, py] = eye.project(this.group.localToWorld(placed.at.clone()))
      const gap = Math.hypot(px - x, py - y)
      if (gap < near) {
        near = gap
        best = placed
      }
    }
    return best
  }

  /** Where places are, in pixels of a view, for whoever drives the page without seeing it. */
  told(eye: Eye): string {
    if (!this.group.visible) return ''
    return this.placed
      .map(({ plant, at }) => {
        const [x, y] = eye.project(this.group.localToWorld(at.clone()))
        return `${plant.part}:${x.toFixed(1)},${y.toFixed(1)}`
      })
      .join(' ')
  }

  dispose(): void {
    for (const drawn of this.lines) {
      drawn.geometry.dispose()
      ;(drawn.material as LineBasicMaterial).dispose()
    }
  }
}

const vector = ({ position }: WorldPose, joint: number): Vector3 =>
  new Vector3().fromArray(position, 3 * joint)

/** An outline around a foot's heel and ball, level on its floor. */
function sole(heel: Vector3, ball: Vector3, up: number, floor: number): number[] {
  const along = ball.clone().sub(heel).setComponent(up, 0)
  const long = along.length()
  if (long < 1e-9) return []
  along.divideScalar(long)
  const aside = new Vector3().setComponent(up, 1).cross(along)
  const [back, front] = [-BEHIND * long, long + BEFORE * long]
  const [middle, half] = [(front + back) / 2, (front - back) / 2]
  const points = Array.from({ length: SOLE }, (_, k) => {
    const a = (2 * Math.PI * k) / SOLE
    // Wider at the ball than at the heel.
    const wide = HALF * long * (1 + 0.22 * Math.cos(a))
    return heel
      .clone()
      .addScaledVector(along, middle + half * Math.cos(a))
      .addScaledVector(aside, wide * Math.sin(a))
      .setComponent(up, floor)
  })
  return points.flatMap((p, k) => [...p.toArray(), ...points[(k + 1) % SOLE]!.toArray()])
}

function cross(at: Vector3, size: number): number[] {
  return [0, 1, 2].flatMap((axis) => {
    const away = new Vector3().setComponent(axis, size)
    return [...at.clone().sub(away).toArray(), ...at.clone().add(away).toArray()]
  })
}
