/** The 3D view: a figure of ink-outlined bones on a ruled floor, drawn on demand. */
import {
  Box3,
  BufferGeometry,
  Color,
  Float32BufferAttribute,
  Group,
  LineBasicMaterial,
  LineSegments,
  PerspectiveCamera,
  Quaternion,
  Scene,
  Vector3,
  WebGLRenderer,
} from 'three'
import { OrbitControls } from 'three/examples/jsm/controls/OrbitControls.js'
import type { Clip } from '../clip/bench'
import type { Overrides, Poses } from '../clip/poses'
import { token } from '../ui/theme'
import { AxisArrow } from './AxisArrow'
import { bonesOf } from './bones'
import { Figure } from './Figure'
import { Marks } from './Marks'
import { Trails } from './Trails'

export type View = 'front' | 'side' | 'top'

const UP = new Vector3(0, 1, 0)
const PICK_PIXELS = 14
const LINE_PIXELS = 1.3
const FADE = 16
/** How firmly ghosts are drawn: of before, around now, of another figure. */
const [BEFORE, AROUND, BESIDE] = [0.4, 0.2, 0.6]
const REST = 180 // ms
const MOST_TRAILS = 6
const MOST_GHOSTS = 4
/** Share of the pane that a framed figure may take: the top has buttons over it. */
const FIT_TALL = 0.8

/** Whether pictures are made by the processor: smooth edges would then halve their number. */
function inSoftware(): boolean {
  const gl = document.createElement('canvas').getContext('webgl')
  const info = gl?.getExtension('WEBGL_debug_renderer_info')
  const name = info ? String(gl?.getParameter(info.UNMASKED_RENDERER_WEBGL)) : ''
  gl?.getExtension('WEBGL_lose_context')?.loseContext()
  return /swiftshader|llvmpipe|software/i.test(name)
}

/** The channel that is hovered: its direction in the space of the joint's parent. */
export type Hovered = () => {
  joint: number
  axis: [number, number, number]
  turns: boolean
  colour: string
} | null

export class Stage {
  readonly camera = new PerspectiveCamera(32, 1, 0.05, 400)
  follow = false
  private renderer: WebGLRenderer
  private scene = new Scene()
  private space = new Group()
  private controls: OrbitControls
  private figure: Figure | null = null
  private ghost: Figure | null = null
  private marks: Marks | null = null
  /** Joints with an open finding at a frame. */
  private foundAt: (frame: number) => readonly number[] = () => []
  private floor: LineSegments | null = null
  private trails: Trails | null = null
  private arrow = new AxisArrow()
  private ghosts: Figure[] = []
  private guide: { figure: Figure; poses: Poses; offset: number } | null = null
  /** The frame whose pose is shown at a frame: another one where poses are held. */
  frameShown: (frame: number) => number = (frame) => frame
  /** Joints that stand otherwise than the server's poses at a frame. */
  overrides: (frame: number) => Overrides | undefined = () => undefined
  /** Frames before and after now that trails and ghosts show. */
  private around = { trails: false, ghosts: false, span: 20, apart: 5 }
  /** Times of a joint's keys, for the dots on its trail. */
  private keysOf: (joint: number) => ReadonlySet<number> = () => new Set()
  private hovered: Hovered = () => null
  private clip: Clip | null = null
  private poses: Poses | null = null
  private before: Poses | null = null
  private frame = 0
  private selected: ReadonlySet<number> = new Set()
  private asked = false
  private root = new Vector3()
  /** Pictures drawn so far, for tests and measurements. */
  drawn = 0

  private software = inSoftware()
  private smooth = false
  private resting: ReturnType<typeof setTimeout> | undefined

  constructor(private canvas: HTMLCanvasElement) {
    this.renderer = new WebGLRenderer({ canvas, antialias: !this.software, alpha: true })
    this.scene.add(this.space)
    this.controls = new OrbitControls(this.camera, canvas)
    this.controls.enableDamping = false
    this.controls.addEventListener('change', this.draw)
    this.camera.position.set(2.4, 1.6, 4.2)
    this.controls.target.set(0, 0.9, 0)
  }

  dispose(): void {
    clearTimeout(this.resting)
    this.controls.dispose()
    this.figure?.dispose()
    this.ghost?.dispose()
    this.marks?.dispose()
    this.trails?.dispose()
    this.arrow.dispose()
    for (const figure of [...this.ghosts, ...(this.guide ? [this.guide.figure] : [])])
      figure.dispose()
    this.renderer.dispose()
  }

  resize(width: number, height: number): void {
    if (width < 2 || height < 2) return
    this.renderer.setPixelRatio(Math.min(devicePixelRatio, 2))
    this.renderer.setSize(width, height, false)
    this.smooth = false
    this.camera.aspect = width / height
    this.camera.updateProjectionMatrix()
    this.draw()
  }

  /** Show a clip: its skeleton, in metres, its up axis up. */
  setClip(clip: Clip): void {
    const same =
      this.clip?.id === clip.id &&
      JSON.stringify(this.clip.reading) === JSON.stringify(clip.reading)
    this.clip = clip
    if (same) return
    this.figure?.dispose()
    this.ghost?.dispose()
    this.space.clear()
    const bones = bonesOf(clip.joints, clip.end_sites)
    this.ghost = new Figure(clip, bones, BEFORE)
    this.figure = new Figure(clip, bones)
    this.marks?.dispose()
    this.marks = new Marks(clip.joints.length)
    this.trails?.dispose()
    this.trails = new Trails()
    for (const figure of this.ghosts) figure.dispose()
    this.ghosts = []
    this.space.add(
      this.ghost.group,
      this.figure.group,
      this.marks.points,
      this.trails.group,
      this.arrow.group,
    )
    this.space.scale.setScalar(clip.reading.metres_per_unit)
    this.space.rotation.set(0, 0, 0)
    if (clip.reading.up_axis === 'z') this.space.rotation.x = -Math.PI / 2
    if (clip.reading.up_axis === 'x') this.space.rotation.z = Math.PI / 2
    this.space.updateMatrixWorld(true)
    this.recolour()
  }

  setPoses(poses: Poses, before: Poses | null): void {
    const first = this.poses === null
    this.poses = poses
    this.before = before
    this.pose()
    if (first) this.fit()
  }

  setFrame(frame: number): void {
    this.frame = frame
    const old = this.root.clone()
    this.pose()
    if (this.follow) {
      const moved = this.root.clone().sub(old)
      moved.y = 0
      this.camera.position.add(moved)
      this.controls.target.add(moved)
      this.controls.update()
    }
    this.draw()
  }

  setSelected(joints: readonly number[]): void {
    this.selected = new Set(joints)
    this.figure?.colour(this.selected)
    this.draw()
  }

  setAround(
    around: { trails: boolean; ghosts: boolean; span: number; apart: number },
    keysOf: (joint: number) => ReadonlySet<number>,
  ): void {
    this.around = around
    this.keysOf = keysOf
    this.pose()
  }

  /** The channel that is hovered: its joint, and its direction in the parent's space. */
  setHovered(hovered: Hovered): void {
    this.hovered = hovered
    this.pose()
  }

  /** Another clip's figure beside this one, later by some frames; null takes it away. */
  setGuide(guide: { clip: Clip; poses: Poses; offset: number; beside: number } | null): void {
    if (this.guide) {
      this.space.remove(this.guide.figure.group)
      this.guide.figure.dispose()
      this.guide = null
    }
    if (guide && this.clip) {
      const figure = new Figure(
        guide.clip,
        bonesOf(guide.clip.joints, guide.clip.end_sites),
        BESIDE,
      )
      figure.group.scale.setScalar(
        guide.clip.reading.metres_per_unit / this.clip.reading.metres_per_unit,
      )
      figure.group.position.x = guide.beside / this.clip.reading.metres_per_unit
      figure.line = this.figure?.line ?? 0
      figure.colour(new Set())
      this.space.add(figure.group)
      this.guide = { figure, poses: guide.poses, offset: guide.offset }
    }
    this.pose()
  }

  /** Something that the pose is made of has changed. */
  refresh(): void {
    this.pose()
  }

  /** Mark joints where something is found: asked for at each frame shown. */
  setFindings(foundAt: (frame: number) => readonly number[]): void {
    this.foundAt = foundAt
    this.pose()
  }

  recolour(): void {
    this.figure?.colour(this.selected)
    this.ghost?.colour(this.selected)
    if (this.floor) {
      this.scene.remove(this.floor)
      this.floor.geometry.dispose()
    }
    this.floor = ruledFloor(9, 0.5)
    this.scene.add(this.floor)
    this.draw()
  }

  private pose(): void {
    if (!this.poses || !this.figure) return
    const at = this.frameShown(this.frame)
    this.figure.pose(this.poses, at, this.overrides(at))
    if (this.ghost) {
      this.ghost.group.visible = this.before !== null
      if (this.before) this.ghost.pose(this.before, at)
    }
    this.guide?.figure.pose(this.guide.poses, at - this.guide.offset)
    this.poseAround(at)
    this.pointOut()
    this.marks?.show(this.figure.world, this.foundAt(this.frame))
    this.root.fromArray(this.figure.world.position, 0)
    this.space.localToWorld(this.root)
    this.draw()
  }

  private poseAround(at: number): void {
    const { poses, clip, around } = this
    if (!poses || !clip) return
    const joints = around.trails ? [...this.selected].slice(0, MOST_TRAILS) : []
    const first = Math.max(0, at - around.span)
    const last = Math.min(poses.frames - 1, at + around.span)
    this.trails?.show(clip, poses, joints, first, last, this.keysOf, this.overrides)
    const each = around.ghosts ? Math.min(MOST_GHOSTS, Math.floor(around.span / around.apart)) : 0
    const frames = Array.from({ length: each }, (_, i) => (i + 1) * around.apart)
      .flatMap((by) => [at - by, at + by])
      .filter((f) => f >= 0 && f < poses.frames)
    while (this.ghosts.length < frames.length) {
      const figure = new Figure(clip, bonesOf(clip.joints, clip.end_sites), AROUND)
      figure.line = this.figure?.line ?? 0
      figure.colour(new Set())
      this.space.add(figure.group)
      this.ghosts.push(figure)
    }
    this.ghosts.forEach((figure, k) => {
      figure.group.visible = k < frames.length
      if (k < frames.length) figure.pose(poses, frames[k]!, this.overrides(frames[k]!))
    })
  }

  /** The direction of the hovered channel, at its joint. */
  private pointOut(): void {
    const found = this.hovered()
    const world = this.figure?.world
    if (!found || !world || !this.clip) {
      this.arrow.hide()
      return
    }
    const parent = this.clip.joints[found.joint]!.parent
    const turn = new Quaternion()
    if (parent >= 0) turn.fromArray(world.rotation, 4 * parent)
    const axis = new Vector3(...found.axis).applyQuaternion(turn)
    const from = new Vector3().fromArray(world.position, 3 * found.joint)
    this.arrow.show(from, axis, found.turns, 0.16 * (this.clip.height || 1), token(found.colour))
  }

  /** World position of a joint, in metres. */
  joint(index: number): Vector3 {
    const at = new Vector3().fromArray(this.figure!.world.position, 3 * index)
    return this.space.localToWorld(at)
  }

  /** Every joint and every tip, in metres. */
  private points(): Vector3[] {
    if (!this.clip || !this.figure) return []
    const turn = new Quaternion()
    const { rotation, position } = this.figure.world
    const tips = this.clip.end_sites.map((end) =>
      this.space.localToWorld(
        new Vector3()
          .fromArray(end.offset)
          .applyQuaternion(turn.fromArray(rotation, 4 * end.parent))
          .add(new Vector3().fromArray(position, 3 * end.parent)),
      ),
    )
    return [...this.clip.joints.map((_, j) => this.joint(j)), ...tips]
  }

  /** Frame the figure from where the camera looks. */
  fit(): void {
    if (!this.figure) return
    const direction = this.camera.position.clone().sub(this.controls.target).normalize()
    this.look(direction)
  }

  /** Look at the figure against a direction, from as near as shows all of it. */
  look(direction: Vector3): void {
    const points = this.points()
    if (points.length === 0) return
    const centre = new Box3().setFromPoints(points).getCenter(new Vector3())
    const right = new Vector3().crossVectors(UP, direction).normalize()
    const up = new Vector3().crossVectors(direction, right)
    const tall = Math.tan((this.camera.fov * Math.PI) / 360) * FIT_TALL
    const wide = tall * this.camera.aspect
    let distance = 0.3
    for (const point of points) {
      const p = point.sub(centre)
      const needed = Math.max(Math.abs(p.dot(up)) / tall, Math.abs(p.dot(right)) / wide)
      distance = Math.max(distance, needed + p.dot(direction))
    }
    this.controls.target.copy(centre)
    this.camera.position.copy(centre).addScaledVector(direction, distance)
    this.controls.update()
    this.draw()
  }

  view(view: View): void {
    if (view === 'front') this.look(new Vector3(0, 0.06, 1).normalize())
    if (view === 'side') this.look(new Vector3(1, 0.06, 0).normalize())
    if (view === 'top') this.look(new Vector3(0, 1, 0.001).normalize())
  }

  /** The joint nearest to a point of the canvas, within reach of a hand, or -1. */
  pick(x: number, y: number): number {
    if (!this.clip || !this.figure) return -1
    const { clientWidth: w, clientHeight: h } = this.canvas
    let best = -1
    let nearest = PICK_PIXELS
    for (let j = 0; j < this.clip.joints.length; j++) {
      const p = this.joint(j).project(this.camera)
      const distance = Math.hypot(((p.x + 1) / 2) * w - x, ((1 - p.y) / 2) * h - y)
      if (distance < nearest) {
        nearest = distance
        best = j
      }
    }
    return best
  }

  /** Outlines stay about a pixel wide at any distance. */
  private keepLine(): void {
    if (!this.figure || !this.ghost || !this.clip || !this.poses) return
    const distance = this.camera.position.distanceTo(this.controls.target)
    const seen = 2 * distance * Math.tan((this.camera.fov * Math.PI) / 360)
    const pixel = seen / Math.max(1, this.canvas.clientHeight)
    const line = (LINE_PIXELS * pixel) / this.clip.reading.metres_per_unit
    if (Math.abs(line / (this.figure.line || 1e-9) - 1) < 0.05) return
    for (const figure of [this.figure, this.ghost, ...this.ghosts]) figure.line = line
    if (this.guide) this.guide.figure.line = line
    this.pose()
  }

  /** Ask for a picture at the next frame of the display. */
  draw = (): void => {
    if (this.asked) return
    this.asked = true
    requestAnimationFrame(() => {
      this.asked = false
      this.drawn++
      this.keepLine()
      if (this.smooth) this.sharpen(false)
      this.renderer.render(this.scene, this.camera)
      if (!this.software) return
      // While it moves pictures are rough and many; once it rests one is made with smooth edges.
      clearTimeout(this.resting)
      this.resting = setTimeout(() => {
        this.sharpen(true)
        this.renderer.render(this.scene, this.camera)
      }, REST)
    })
  }

  private sharpen(smooth: boolean): void {
    this.smooth = smooth
    this.renderer.setPixelRatio(Math.min(devicePixelRatio, 2) * (smooth ? 2 : 1))
  }
}

function ruledFloor(half: number, spacing: number): LineSegments {
  const points: number[] = []
  const colours: number[] = []
  const thin = new Color(token('rule'))
  const thick = new Color(token('rule-2'))
  const paper = new Color(token('paper'))
  const mixed = new Color()
  for (let i = -half / spacing; i <= half / spacing; i++) {
    const at = i * spacing
    const colour = i % 2 === 0 ? thick : thin
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
  const lines = new LineSegments(geometry, material)
  lines.renderOrder = -1
  return lines
}
