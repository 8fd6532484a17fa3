/** One view of the scene: a camera, the part of the stage it is drawn in, and its controls. */
import { Box3, PerspectiveCamera, Vector3 } from 'three'
import { OrbitControls } from 'three/examples/jsm/controls/OrbitControls.js'
import type { Schemas } from '../api/client'

export const VIEWS = ['front', 'side', 'top', 'three-quarter'] as const
export type View = (typeof VIEWS)[number]
export type Placed = Schemas['CameraIO']

const UP = new Vector3(0, 1, 0)
const FOV = 32
/** Share of the pane that a framed figure may take: the top has buttons over it. */
const FIT_TALL = 0.74
/** Pixels by which it is framed below the middle: the buttons' half. */
const LOWER = 14

const DIRECTIONS: Record<View, [number, number, number]> = {
  front: [0, 0.06, 1],
  side: [1, 0.06, 0],
  top: [0, 1, 0.001],
  'three-quarter': [0.72, 0.32, 0.9],
}

export class Eye {
  readonly camera = new PerspectiveCamera(FOV, 1, 0.05, 400)
  readonly controls: OrbitControls
  /** Looks through the placed camera, which is moved by its numbers alone. */
  placed = false

  constructor(
    /** The part of the page over which it is seen and turned. */
    readonly element: HTMLElement,
    onChange: () => void,
  ) {
    this.controls = new OrbitControls(this.camera, element)
    this.controls.enableDamping = false
    this.controls.addEventListener('change', onChange)
    this.camera.position.set(2.4, 1.6, 4.2)
    this.controls.target.set(0, 0.9, 0)
  }

  dispose(): void {
    this.controls.dispose()
  }

  get size(): [number, number] {
    return [this.element.clientWidth, this.element.clientHeight]
  }

  resize(): void {
    const [width, height] = this.size
    if (width < 2 || height < 2) return
    this.camera.aspect = width / height
    this.camera.updateProjectionMatrix()
  }

  /** From where it looks, as a direction of length one. */
  get direction(): Vector3 {
    return this.camera.position.clone().sub(this.controls.target).normalize()
  }

  view(view: View, points: readonly Vector3[]): void {
    this.look(new Vector3(...DIRECTIONS[view]).normalize(), points)
  }

  /** Look at points against a direction, from as near as shows all of them. */
  look(direction: Vector3, points: readonly Vector3[]): void {
    if (points.length === 0) return
    this.leave()
    const centre = new Box3().setFromPoints([...points]).getCenter(new Vector3())
    const right = new Vector3().crossVectors(UP, direction).normalize()
    const up = new Vector3().crossVectors(direction, right)
    const tall = Math.tan((this.camera.fov * Math.PI) / 360) * FIT_TALL
    const wide = tall * this.camera.aspect
    let distance = 0.3
    for (const point of points) {
      const p = point.clone().sub(centre)
      const needed = Math.max(Math.abs(p.dot(up)) / tall, Math.abs(p.dot(right)) / wide)
      distance = Math.max(distance, needed + p.dot(direction))
    }
    const raised = centre.addScaledVector(up, LOWER * this.pixelAt(distance))
    this.controls.target.copy(raised)
    this.camera.position.copy(raised).addScaledVector(direction, distance)
    this.controls.update()
  }

  /** Look through a placed camera. */
  through({ position, target, fov }: Placed): void {
    this.placed = true
    this.controls.enabled = false
    this.camera.fov = fov
    this.camera.position.fromArray(position)
    this.controls.target.fromArray(target)
    this.camera.lookAt(this.controls.target)
    this.camera.updateProjectionMatrix()
  }

  /** Look freely again. */
  private leave(): void {
    this.placed = false
    this.controls.enabled = true
    this.camera.fov = FOV
    this.camera.updateProjectionMatrix()
  }

  /** Where it stands, to place a camera there. */
  get standing(): Placed {
    const near = (v: number) => Number(v.toFixed(3))
    return {
      position: this.camera.position.toArray().map(near),
      target: this.controls.target.toArray().map(near),
      fov: Math.round(this.camera.fov),
    }
  }

  /** A point in pixels of its part of the page. */
  project(point: Vector3): [number, number] {
    const [w, h] = this.size
    const p = point.clone().project(this.camera)
    return [((p.x + 1) / 2) * w, ((1 - p.y) / 2) * h]
  }

  /** The way of sight through a pixel: from where, and in which direction. */
  ray(x: number, y: number): { from: Vector3; along: Vector3 } {
    const [w, h] = this.size
    const from = this.camera.position.clone()
    const through = new Vector3((2 * x) / w - 1, 1 - (2 * y) / h, 0.5).unproject(this.camera)
    return { from, along: through.sub(from).normalize() }
  }

  /** Metres that a pixel is wide at a distance. */
  pixelAt(distance: number): number {
    const seen = 2 * distance * Math.tan((this.camera.fov * Math.PI) / 360)
    return seen / Math.max(1, this.size[1])
  }
}
