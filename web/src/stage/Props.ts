/** Props on the stage: plain shapes of paper with ink edges. */
import {
  BoxGeometry,
  type BufferGeometry,
  CylinderGeometry,
  EdgesGeometry,
  Group,
  LineBasicMaterial,
  LineSegments,
  Mesh,
  MeshBasicMaterial,
  SphereGeometry,
} from 'three'
import type { Schemas } from '../api/client'
import type { Poses } from '../evaluation/poses'
import type { JointPose } from '../evaluation/rotations'
import { token } from '../ui/theme'

type Prop = Schemas['PropOut']

/** Of a line and a point, how thick they are drawn, as a share of their length or size. */
const THIN = 0.02

export class Props {
  readonly group = new Group()
  private fill = new MeshBasicMaterial({ polygonOffset: true, polygonOffsetFactor: 1 })
  private edge = new LineBasicMaterial()
  private made = ''

  constructor() {
    this.ink()
  }

  ink(): void {
    this.fill.color.set(token('raised'))
    this.edge.color.set(token('ink-2'))
  }

  /** Props as they stand at a frame, or as curves ahead of the poses have them; made anew where
   * there are others. */
  show(
    props: readonly Prop[],
    poses: Poses,
    frame: number,
    ahead: (prop: number, frame: number) => JointPose | undefined,
  ): void {
    const wanted = JSON.stringify(props)
    if (wanted !== this.made) this.build(props, wanted)
    const { props: at } = poses
    const count = props.length
    this.group.visible = at !== undefined && at.place.length === 3 * count * poses.frames
    if (!at || !this.group.visible) return
    const f = Math.min(Math.max(Math.round(frame), 0), poses.frames - 1)
    this.group.children.forEach((shape, k) => {
      const own = ahead(props[k]!.id, frame)
      shape.position.fromArray(own?.translation ?? at.place, own ? 0 : 3 * (f * count + k))
      shape.quaternion.fromArray(own?.rotation ?? at.rotation, own ? 0 : 4 * (f * count + k))
    })
  }

  private build(props: readonly Prop[], wanted: string): void {
    this.clear()
    this.made = wanted
    for (const prop of props) {
      const geometry = shapeOf(prop)
      const shape = new Group()
      shape.add(
        new Mesh(geometry, this.fill),
        new LineSegments(new EdgesGeometry(geometry, 30), this.edge),
      )
      this.group.add(shape)
    }
  }

  private clear(): void {
    for (const shape of [...this.group.children]) {
      for (const part of shape.children) (part as Mesh).geometry.dispose()
      this.group.remove(shape)
    }
  }

  dispose(): void {
    this.clear()
    this.fill.dispose()
    this.edge.dispose()
  }
}

function shapeOf({ shape, size }: Prop): BufferGeometry {
  const [x, y, z] = size.map((v) => Math.max(v, 1e-6)) as [number, number, number]
  if (shape === 'cylinder') return new CylinderGeometry(x / 2, x / 2, y, 24)
  if (shape === 'line') return new CylinderGeometry(THIN * y, THIN * y, y, 8)
  if (shape === 'point') return new SphereGeometry(Math.max(x, y, z) / 2, 10, 6)
  return new BoxGeometry(x, y, z)
}
