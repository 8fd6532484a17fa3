/** What a joint is turned and moved by: a ring an axis, or an arrow, each with its letter. Its own
 * pointer arithmetic; three.js only draws it. */
import {
  CanvasTexture,
  CylinderGeometry,
  Group,
  Mesh,
  MeshBasicMaterial,
  type Object3D,
  type Quaternion,
  Sprite,
  SpriteMaterial,
  SRGBColorSpace,
  TorusGeometry,
  Vector3,
} from 'three'
import { token } from '../ui/theme'
import type { Eye } from './Eye'

export type Axis = 'x' | 'y' | 'z'
export const AXES: readonly Axis[] = ['x', 'y', 'z']

/** Pixels, and the most of the stage's height. */
const [RADIUS, SHARE] = [58, 0.19]
const NEAR = 9 // pixels
const STEPS = 72
/** Half of a line's width, as a share of the radius. */
const THICK = 0.017
/** Below this a ring is seen from its edge: it is turned along the screen. */
const EDGE_ON = 0.2

/** Where it stands, in metres: its middle, how its axes lie, and which of them can be used. */
export interface GizmoPlace {
  at: Vector3
  turn: Quaternion
  axes: readonly Axis[]
  mode: 'turn' | 'move'
}

const UNIT: Record<Axis, Vector3> = {
  x: new Vector3(1, 0, 0),
  y: new Vector3(0, 1, 0),
  z: new Vector3(0, 0, 1),
}

/** A circle of radius one about an axis, or a line along it. */
function shape(axis: Axis, mode: 'turn' | 'move'): Vector3[] {
  const along = UNIT[axis]
  if (mode === 'move') return [along.clone().multiplyScalar(0.12), along.clone()]
  const a = UNIT[axis === 'x' ? 'y' : axis === 'y' ? 'z' : 'x']
  const b = new Vector3().crossVectors(along, a)
  return Array.from({ length: STEPS + 1 }, (_, k) => {
    const angle = (2 * Math.PI * k) / STEPS
    return a.clone().multiplyScalar(Math.cos(angle)).addScaledVector(b, Math.sin(angle))
  })
}

/** Where an axis' letter stands: at its arrow's end, on its ring where no two meet. */
const signOf = (axis: Axis, mode: 'turn' | 'move'): Vector3 =>
  mode === 'move' ? UNIT[axis].clone() : shape(axis, mode)[9]!

/** A letter on a small disc, at the end of an arrow or on a ring. */
function letter(text: string): Sprite {
  const canvas = document.createElement('canvas')
  canvas.width = canvas.height = 64
  const map = new CanvasTexture(canvas)
  map.colorSpace = SRGBColorSpace
  const sprite = new Sprite(new SpriteMaterial({ map, depthTest: false, transparent: true }))
  sprite.renderOrder = 6
  sprite.userData = { text, canvas }
  return sprite
}

function inkLetter(sprite: Sprite, colour: string, held: boolean): void {
  const { text, canvas } = sprite.userData as { text: string; canvas: HTMLCanvasElement }
  const g = canvas.getContext('2d')!
  g.clearRect(0, 0, 64, 64)
  g.fillStyle = held ? colour : token('raised')
  g.strokeStyle = colour
  g.lineWidth = 5
  g.beginPath()
  g.arc(32, 32, 27, 0, 7)
  g.fill()
  g.stroke()
  g.fillStyle = held ? token('raised') : colour
  g.font = '600 36px "IBM Plex Mono"'
  g.textAlign = 'center'
  g.textBaseline = 'middle'
  g.fillText(text, 32, 35)
  ;(sprite.material.map as CanvasTexture).needsUpdate = true
}

export class Gizmo {
  readonly group = new Group()
  private place: GizmoPlace | null = null
  private held: Axis | null = null
  private parts: { axis: Axis; mode: 'turn' | 'move'; line: Mesh; letter: Sprite }[] = []

  constructor() {
    for (const mode of ['turn', 'move'] as const)
      for (const axis of AXES) {
        const [first, last] = shape(axis, mode) as [Vector3, Vector3]
        const geometry =
          mode === 'turn'
            ? new TorusGeometry(1, THICK, 6, STEPS)
            : new CylinderGeometry(THICK, THICK, first.distanceTo(last), 6)
        const line = new Mesh(
          geometry,
          new MeshBasicMaterial({ depthTest: false, transparent: true }),
        )
        // A torus lies about Z, a cylinder along Y.
        const own = new Vector3(0, Number(mode === 'move'), Number(mode === 'turn'))
        line.quaternion.setFromUnitVectors(own, UNIT[axis])
        if (mode === 'move') line.position.copy(first).lerp(last, 0.5)
        line.renderOrder = 5
        line.frustumCulled = false
        const sign = letter(axis.toUpperCase())
        sign.position.copy(signOf(axis, mode))
        sign.scale.setScalar(0.3)
        this.parts.push({ axis, mode, line, letter: sign })
        this.group.add(line, sign)
      }
    this.show(null)
  }

  dispose(): void {
    for (const { line, letter: sign } of this.parts) {
      line.geometry.dispose()
      ;(line.material as MeshBasicMaterial).dispose()
      sign.material.map?.dispose()
      sign.material.dispose()
    }
  }

  show(place: GizmoPlace | null): void {
    this.place = place
    this.group.visible = place !== null
    if (!place) return
    this.group.position.copy(place.at)
    this.group.quaternion.copy(place.turn)
    for (const part of this.parts) {
      const on = part.mode === place.mode && place.axes.includes(part.axis)
      part.line.visible = part.letter.visible = on
    }
    this.ink()
  }

  hold(axis: Axis | null): void {
    this.held = axis
    this.ink()
  }

  ink(): void {
    for (const { axis, line, letter: sign } of this.parts) {
      const colour = token(axis)
      const material = line.material as MeshBasicMaterial
      material.color.set(colour)
      material.opacity = this.held && this.held !== axis ? 0.25 : 1
      inkLetter(sign, colour, this.held === axis)
    }
  }

  /** As many pixels large in each view. */
  fit(eye: Eye): void {
    if (this.place) this.group.scale.setScalar(this.radius(eye))
  }

  private pixels = (eye: Eye): number => Math.min(RADIUS, SHARE * eye.size[1])

  private radius(eye: Eye): number {
    return this.pixels(eye) * eye.pixelAt(eye.camera.position.distanceTo(this.group.position))
  }

  /** The axis under a pixel. */
  pick(eye: Eye, x: number, y: number): Axis | null {
    const { place } = this
    if (!place) return null
    let best: Axis | null = null
    let near = NEAR
    for (const axis of place.axes) {
      const points = this.points(axis, place, eye)
      const sign = this.project(signOf(axis, place.mode), place, eye)
      const gap = Math.min(
        Math.hypot(sign[0] - x, sign[1] - y) - 4,
        ...points.slice(1).map((b, k) => toSegment([x, y], points[k]!, b)),
      )
      if (gap < near) {
        near = gap
        best = axis
      }
    }
    return best
  }

  private points(axis: Axis, place: GizmoPlace, eye: Eye): [number, number][] {
    return shape(axis, place.mode).map((p) => this.project(p, place, eye))
  }

  /** The axes' letters in pixels of a view: `x:10,20 y:30,40`; empty where it is not out. */
  told(eye: Eye): string {
    const { place } = this
    if (!place) return ''
    return place.axes
      .map((axis) => {
        const [x, y] = this.project(signOf(axis, place.mode), place, eye)
        return `${axis}:${x.toFixed(1)},${y.toFixed(1)}`
      })
      .join(' ')
  }

  /** A point of its shape in pixels of a view. */
  private project(point: Vector3, { at, turn }: GizmoPlace, eye: Eye): [number, number] {
    return eye.project(point.applyQuaternion(turn).multiplyScalar(this.radius(eye)).add(at))
  }

  /** Where an axis points, in metres' space. */
  along(axis: Axis): Vector3 {
    return UNIT[axis].clone().applyQuaternion(this.place!.turn)
  }

  /** Begin to turn or to move: what a pixel then means, in degrees or in metres. */
  begin(eye: Eye, axis: Axis, x: number, y: number): (x: number, y: number) => number {
    return this.place!.mode === 'move'
      ? this.moving(eye, axis, x, y)
      : this.turning(eye, axis, x, y)
  }

  private moving(eye: Eye, axis: Axis, x: number, y: number) {
    const at = this.place!.at.clone()
    const along = this.along(axis)
    const start = nearestOnLine(at, along, eye.ray(x, y))
    return (px: number, py: number) => nearestOnLine(at, along, eye.ray(px, py)) - start
  }

  private turning(eye: Eye, axis: Axis, x: number, y: number) {
    const at = this.place!.at.clone()
    const normal = this.along(axis)
    const sight = eye.camera.position.clone().sub(at).normalize()
    if (Math.abs(sight.dot(normal)) < EDGE_ON) {
      // Seen from its edge a ring is rolled: along the screen, across its axis.
      const [cx, cy] = eye.project(at)
      const [ax, ay] = eye.project(at.clone().addScaledVector(normal, this.radius(eye)))
      const size = Math.hypot(ax - cx, ay - cy) || 1
      const [dx, dy] = [-(ay - cy) / size, (ax - cx) / size]
      return (px: number, py: number) =>
        (((px - x) * dx + (py - y) * dy) / this.pixels(eye)) * (180 / Math.PI)
    }
    const angle = (px: number, py: number) => {
      const hit = onPlane(at, normal, eye.ray(px, py))
      const a = UNIT[axis === 'x' ? 'y' : axis === 'y' ? 'z' : 'x']
        .clone()
        .applyQuaternion(this.place!.turn)
      const b = new Vector3().crossVectors(normal, a)
      return Math.atan2(hit.dot(b), hit.dot(a))
    }
    let last = angle(x, y)
    let whole = 0
    return (px: number, py: number) => {
      const now = angle(px, py)
      // More than one whole turn is counted on.
      whole += Math.atan2(Math.sin(now - last), Math.cos(now - last))
      last = now
      return (whole * 180) / Math.PI
    }
  }

  get object(): Object3D {
    return this.group
  }
}

type Point = readonly [number, number]

function toSegment(p: Point, a: Point, b: Point): number {
  const [dx, dy] = [b[0] - a[0], b[1] - a[1]]
  const length = dx * dx + dy * dy
  const t = length ? ((p[0] - a[0]) * dx + (p[1] - a[1]) * dy) / length : 0
  const u = Math.min(1, Math.max(0, t))
  return Math.hypot(a[0] + u * dx - p[0], a[1] + u * dy - p[1])
}

/** How far along a line its point nearest to a way of sight lies. */
function nearestOnLine(
  at: Vector3,
  along: Vector3,
  ray: { from: Vector3; along: Vector3 },
): number {
  const gap = ray.from.clone().sub(at)
  const b = along.dot(ray.along)
  const flat = 1 - b * b
  if (flat < 1e-6) return 0
  return (gap.dot(along) - b * gap.dot(ray.along)) / flat
}

/** Where a way of sight meets a plane, from the plane's middle. */
function onPlane(at: Vector3, normal: Vector3, ray: { from: Vector3; along: Vector3 }): Vector3 {
  const reach = at.clone().sub(ray.from).dot(normal) / ray.along.dot(normal)
  return ray.from.clone().addScaledVector(ray.along, reach).sub(at)
}
