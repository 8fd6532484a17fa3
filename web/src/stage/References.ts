/** What sizes are read by: a ruled floor, a post with marks, and a person's outline. */
import {
  BufferGeometry,
  CanvasTexture,
  Color,
  Float32BufferAttribute,
  Group,
  LineBasicMaterial,
  LineSegments,
  Sprite,
  SpriteMaterial,
  SRGBColorSpace,
  Vector3,
} from 'three'
import { token } from '../ui/theme'
import type { Eye } from './Eye'

/** Half of the floor, and into how many pieces its lines fade. */
const HALF = 9
const FADE = 16

export interface Shown {
  /** Metres between the floor's lines; 0 for none. */
  grid: number
  post: boolean
  person: boolean
}

export const PERSON = 1.75 // metres
const POST = 2 // metres

/** A standing person's right side from the crown down to between the feet: metres out from the
 * middle and up, for 1.75 m. Proportions of about seven and a half heads: common practice. */
const SIDE: [number, number][] = [
  [0, 1.75],
  [0.055, 1.735],
  [0.08, 1.67],
  [0.075, 1.6],
  [0.05, 1.53],
  [0.055, 1.47],
  [0.19, 1.42],
  [0.235, 1.36],
  [0.26, 1.15],
  [0.275, 0.92],
  [0.29, 0.78],
  [0.25, 0.77],
  [0.23, 0.92],
  [0.205, 1.12],
  [0.18, 1.26],
  [0.155, 1.1],
  [0.175, 0.93],
  [0.16, 0.7],
  [0.135, 0.5],
  [0.135, 0.35],
  [0.1, 0.09],
  [0.14, 0.02],
  [0.13, 0],
  [0.04, 0],
  [0.045, 0.1],
  [0.04, 0.35],
  [0.03, 0.55],
  [0.005, 0.82],
]

/** A few words in the scene, as high as some metres. */
function words(text: string): Sprite {
  const canvas = document.createElement('canvas')
  canvas.width = 160
  canvas.height = 48
  const g = canvas.getContext('2d')!
  g.font = '500 32px "IBM Plex Mono"'
  g.textBaseline = 'middle'
  g.textAlign = 'right'
  g.fillStyle = token('ink-2')
  g.fillText(text, 156, 26)
  const map = new CanvasTexture(canvas)
  map.colorSpace = SRGBColorSpace
  const sprite = new Sprite(new SpriteMaterial({ map, transparent: true, depthWrite: false }))
  // Words end at their place: left of the post, whose marks point there.
  sprite.center.set(1, 0.5)
  return sprite
}

function lines(points: number[], colour: string): LineSegments {
  const geometry = new BufferGeometry()
  geometry.setAttribute('position', new Float32BufferAttribute(points, 3))
  return new LineSegments(geometry, new LineBasicMaterial({ color: colour }))
}

export class References {
  readonly group = new Group()
  private floor: LineSegments | null = null
  private post = new Group()
  private person = new Group()
  private shown: Shown = { grid: 0.5, post: false, person: false }
  /** Grows whenever they look otherwise. */
  looks = 0

  constructor() {
    this.group.add(this.post, this.person)
  }

  dispose(): void {
    this.clear(this.post)
    this.clear(this.person)
    this.floor?.geometry.dispose()
  }

  private clear(group: Group): void {
    for (const child of group.children) {
      if (child instanceof LineSegments) child.geometry.dispose()
      if (child instanceof Sprite) child.material.map?.dispose()
    }
    group.clear()
  }

  show(shown: Shown): void {
    this.shown = shown
    this.draw()
  }

  /** Drawn anew: in the colours that now hold. */
  draw(): void {
    this.looks++
    if (this.floor) {
      this.group.remove(this.floor)
      this.floor.geometry.dispose()
      this.floor = null
    }
    if (this.shown.grid) {
      this.floor = ruledFloor(this.shown.grid)
      this.group.add(this.floor)
    }
    this.clear(this.post)
    if (this.shown.post) this.drawPost()
    this.clear(this.person)
    if (this.shown.person) this.drawPerson()
  }

  /** They stand beside the figure: the post at its left, the person at its right. */
  stand(at: Vector3): void {
    this.looks++
    this.post.position.set(at.x - 1, 0, at.z)
    this.person.position.set(at.x + 1.1, 0, at.z)
  }

  /** Their ends, for a view to hold them as well. */
  points(): Vector3[] {
    const { post, person } = this.shown
    return [...(post ? ends(this.post, POST) : []), ...(person ? ends(this.person, PERSON) : [])]
  }

  /** A flat outline and its words are turned to whoever looks. */
  face(eye: Eye): void {
    const { x, z } = eye.camera.position
    const { position } = this.person
    this.person.rotation.y = Math.atan2(x - position.x, z - position.z)
    const size = 18 * eye.pixelAt(eye.camera.position.distanceTo(eye.controls.target))
    for (const child of [...this.post.children, ...this.person.children])
      if (child instanceof Sprite) child.scale.set((size * 160) / 48, size, 1)
  }

  private drawPost(): void {
    const points = [0, 0, 0, 0, POST, 0]
    for (let k = 1; k <= POST * 10; k++) {
      const wide = k % 5 === 0 ? 0.06 : 0.025
      points.push(-wide, k / 10, 0, wide, k / 10, 0, 0, k / 10, -wide, 0, k / 10, wide)
    }
    this.post.add(lines(points, token('ink-2')))
    for (let k = 1; k <= 2 * POST; k++) {
      const label = words(`${(k / 2).toFixed(1)} m`)
      label.position.set(-0.09, k / 2, 0)
      this.post.add(label)
    }
  }

  private drawPerson(): void {
    const points: number[] = []
    for (const sign of [1, -1])
      for (let k = 0; k + 1 < SIDE.length; k++) {
        const [a, b] = [SIDE[k]!, SIDE[k + 1]!]
        points.push(sign * a[0], a[1], 0, sign * b[0], b[1], 0)
      }
    this.person.add(lines(points, token('ink-3')))
    const label = words(`${PERSON} m`)
    label.position.set(-0.12, PERSON - 0.06, 0)
    this.person.add(label)
  }
}

const ends = ({ position: { x, z } }: Group, height: number): Vector3[] => [
  new Vector3(x, 0, z),
  new Vector3(x, height, z),
]

function ruledFloor(spacing: number): LineSegments {
  const points: number[] = []
  const colours: number[] = []
  const thin = new Color(token('rule'))
  const thick = new Color(token('rule-2'))
  const paper = new Color(token('paper'))
  const mixed = new Color()
  // A finely ruled floor is a small one.
  const half = Math.min(HALF, Math.ceil(spacing * 30))
  const each = Math.round(1 / spacing)
  for (let i = -Math.round(half / spacing); i <= half / spacing; i++) {
    const at = i * spacing
    // Each whole metre is ruled firmer.
    const colour = i % Math.max(each, 1) === 0 ? thick : thin
    // In pieces that fade into the paper, so that the floor has no edge.
    for (let k = 0; k < FADE; k++) {
      const ends = [k, k + 1].map((n) => -half + (2 * half * n) / FADE) as [number, number]
      points.push(at, 0, ends[0], at, 0, ends[1], ends[0], 0, at, ends[1], 0, at)
      for (const end of [ends[0], ends[1], ends[0], ends[1]]) {
        const far = Math.min(1, Math.hypot(at, end) / half)
        mixed.lerpColors(colour, paper, far)
        colours.push(mixed.r, mixed.g, mixed.b)
      }
    }
  }
  const geometry = new BufferGeometry()
  geometry.setAttribute('position', new Float32BufferAttribute(points, 3))
  geometry.setAttribute('color', new Float32BufferAttribute(colours, 3))
  const material = new LineBasicMaterial({ vertexColors: true, transparent: true, opacity: 0.7 })
  const floor = new LineSegments(geometry, material)
  floor.renderOrder = -1
  return floor
}
