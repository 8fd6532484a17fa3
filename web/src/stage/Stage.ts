/** The 3D view: a figure of ink-outlined bones on a ruled floor, drawn on demand. */
import { Group, Matrix4, Quaternion, Scene, Vector3, WebGLRenderer } from 'three'
import type { Clip, Plant } from '../evaluation/model'
import type { Overrides, Poses, WorldPose } from '../evaluation/poses'
import type { JointPose } from '../evaluation/rotations'
import type { Skin } from '../evaluation/skin'
import { token } from '../ui/theme'
import { AxisArrow } from './AxisArrow'
import { type Away, awayFromView } from './away'
import { awayFrom } from './bones'
import { Eye, type Placed, type View } from './Eye'
import { Figure, type Look } from './Figure'
import { framesAround, Ghosts } from './Ghosts'
import { Gizmo } from './Gizmo'
import { type Beside, Guest, type Stand, upright } from './Guest'
import { Marks } from './Marks'
import { Places } from './Places'
import { Props } from './Props'
import { References, type Shown } from './References'
import { lapOf, times } from './rounds'
import { Shades } from './Shades'
import { Quick } from './sketch/Quick'
import { Trails } from './Trails'
import { Weight } from './Weight'

const PICK_PIXELS = 14
const LIMB_PIXELS = 18
const LINE_PIXELS = 1.3
/** How firmly ghosts are drawn: of before, around now, of another figure. */
const BEFORE = 0.4
const NOBODY: ReadonlySet<number> = new Set()
const REST = 400 // ms
const SELDOM = 40 // ms
const MOST_TRAILS = 6

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

/** The length of all bones, in the skeleton's unit: what figure is seen. */
const lengthOf = ({ joints }: Clip) =>
  joints.reduce((sum, { offset }) => sum + Math.hypot(...offset), 0)

/** What the figure is made of: how the take is read, and its skeleton, which a swap may change. */
const bodyOf = ({ reading, joints, end_sites }: Clip) => [
  reading,
  joints.map(({ name, parent, offset }) => [name, parent, offset]),
  end_sites,
]

const STILL = new Matrix4()

export class Stage {
  /** The two views; the second one is seen where the stage is split. */
  readonly eyes: [Eye, Eye]
  /** The one that was used last: views are of it. */
  eye: Eye
  split = false
  readonly gizmo = new Gizmo()
  readonly references = new References()
  readonly places = new Places()
  private props = new Props()
  /** Which plant is chosen, and the joints of feet by part; null where places are not shown. */
  private placing: { chosen: Plant | null; joints: ReadonlyMap<string, number> } | null = null
  follow = false
  /** What the carrier stands for: it stays through all frames of a round. */
  private stood: {
    poses: Poses | null
    round: number
    range: readonly [number, number]
  } | null = null
  /** Whether the rounds of a loop go on: views go along, as nobody sees where that will be. */
  private onward = false
  private renderer: WebGLRenderer
  private scene = new Scene()
  private space = new Group()
  /** What carries all of it on in the rounds of a loop. */
  private carrier = new Group()
  private figure: Figure | null = null
  private ghost: Figure | null = null
  private marks: Marks | null = null
  /** Joints with an open finding at a frame. */
  private foundAt: (frame: number) => readonly number[] = () => []
  /** In review nothing is drawn but the figure on its floor. */
  private plain = false
  private trails: Trails | null = null
  private weight = new Weight()
  private arrow = new AxisArrow()
  private shades = new Shades()
  private ghosts = new Ghosts(this.space)
  private guest: Guest | null = null
  private partners: Guest[] = []
  private met: { poses: Poses; at: number } | null = null
  /** The frame whose pose is shown at a frame: another one where poses are held. */
  frameShown: (frame: number) => number = (frame) => frame
  /** Joints that stand otherwise than the server's poses at a frame. */
  overrides: (frame: number) => Overrides | undefined = () => undefined
  /** A prop as curves that the poses do not have yet put it. */
  propAhead: (prop: number, frame: number) => JointPose | undefined = () => undefined
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
  private unkeyed: ReadonlySet<number> = NOBODY
  /** Told with each picture: where beyond the view's edge the figure is; null where it is seen. */
  onAway: (away: Away | null) => void = () => {}
  private asked = false
  private root = new Vector3()
  /** Pictures drawn so far, for tests and measurements. */
  drawn = 0

  private software = inSoftware()
  private quick: Quick | null = null
  private smooth = false
  private resting: ReturnType<typeof setTimeout> | undefined

  constructor(
    private canvas: HTMLCanvasElement,
    panes: [HTMLElement, HTMLElement],
  ) {
    this.renderer = new WebGLRenderer({ canvas, antialias: !this.software, alpha: true })
    this.carrier.add(this.space)
    this.scene.add(this.carrier, this.references.group, this.shades.group, this.gizmo.object)
    if (this.software) this.quick = new Quick(this.renderer, this.scene, this.references.group)
    this.eyes = panes.map((pane) => new Eye(pane, this.draw)) as [Eye, Eye]
    this.eye = this.eyes[0]
    panes.forEach((pane, k) => {
      pane.addEventListener('pointerdown', () => {
        this.eye = this.eyes[k]!
      })
    })
  }

  dispose(): void {
    clearTimeout(this.resting)
    for (const eye of this.eyes) eye.dispose()
    this.gizmo.dispose()
    this.references.dispose()
    this.places.dispose()
    this.props.dispose()
    this.figure?.dispose()
    this.ghost?.dispose()
    this.marks?.dispose()
    this.trails?.dispose()
    this.weight.dispose()
    this.arrow.dispose()
    this.shades.dispose()
    for (const figure of this.ghosts.figures) figure.dispose()
    for (const guest of this.guests) guest.dispose()
    this.quick?.dispose()
    this.renderer.dispose()
  }

  resize(width: number, height: number): void {
    if (width < 2 || height < 2) return
    this.renderer.setPixelRatio(Math.min(devicePixelRatio, 2))
    this.renderer.setSize(width, height, false)
    this.smooth = false
    for (const eye of this.eyes) eye.resize()
    this.draw()
  }

  /** Two views side by side, the second one from the side at first. */
  setSplit(split: boolean): void {
    this.split = split
    this.eye = this.eyes[split ? 1 : 0]
    for (const eye of this.eyes) eye.resize()
    if (split) this.view('side')
    this.draw()
  }

  private get seeing(): readonly Eye[] {
    return this.split ? this.eyes : this.eyes.slice(0, 1)
  }

  setPlain(plain: boolean): void {
    this.plain = plain
    this.figure?.colour(plain ? NOBODY : this.selected)
    this.pose()
  }

  setReferences(shown: Shown): void {
    this.references.show(shown)
    this.references.stand(this.root)
    this.draw()
  }

  /** Show a clip: its skeleton, in metres, its up axis up. */
  setClip(clip: Clip): void {
    const same =
      this.clip?.id === clip.id &&
      JSON.stringify(bodyOf(this.clip)) === JSON.stringify(bodyOf(clip))
    this.clip = clip
    if (!same) this.build(clip)
  }

  private look: Look = { roles: null, bare: false }

  /** As a body or as lines and dots; what the joints are taken for, once that is known. */
  setLook(look: Look): void {
    if (JSON.stringify(look) === JSON.stringify(this.look)) return
    this.look = look
    if (!this.clip) return
    this.build(this.clip)
    this.pose()
  }

  private skin: Skin | null = null

  /** The figure's own body, where it is drawn as that; null for the drawn one. */
  setSkin(skin: Skin | null): void {
    if (skin === this.skin) return
    this.skin = skin
    if (!this.clip) return
    this.build(this.clip)
    this.pose()
  }

  private build(clip: Clip): void {
    const { line = 0 } = this.figure ?? {}
    this.figure?.dispose()
    this.ghost?.dispose()
    this.space.clear()
    this.canvas.dataset.bones = lengthOf(clip).toFixed(1)
    // Made for another skeleton, as one that is being swapped: not yet this one's.
    const skin = this.skin?.fits(clip.joints.length) ? this.skin : null
    this.ghost = new Figure(clip, this.look, BEFORE, skin)
    this.figure = new Figure(clip, this.look, 1, skin)
    this.figure.dash(this.unkeyed)
    this.ghost.line = this.figure.line = line
    this.marks?.dispose()
    this.marks = new Marks(clip.joints.length)
    this.trails?.dispose()
    this.trails = new Trails()
    this.ghosts.clear()
    this.space.add(
      this.ghost.group,
      this.figure.group,
      this.marks.points,
      this.trails.group,
      this.weight.group,
      this.arrow.group,
      this.places.group,
      this.props.group,
    )
    this.space.scale.setScalar(clip.reading.metres_per_unit)
    this.space.quaternion.copy(upright(clip))
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
    this.poseAndFollow(this.follow || this.onward)
    this.draw()
  }

  private poseAndFollow(follow: boolean): void {
    const old = this.root.clone()
    this.pose()
    if (!follow) return
    const moved = this.root.clone().sub(old)
    moved.y = 0
    for (const { camera, controls, placed } of this.eyes) {
      if (placed) continue
      camera.position.add(moved)
      controls.target.add(moved)
      controls.update()
    }
  }

  /** Show the figure where a loop of a range has led it after so many rounds. */
  setRound(round: number, range: readonly [number, number], onward: boolean): void {
    const { clip, poses, carrier } = this
    this.onward = onward
    if (!round && carrier.matrix.equals(STILL)) return
    const known = this.stood
    if (known?.poses === poses && known?.round === round && known?.range === range) return
    this.stood = { poses, round, range }
    const hips = Math.max(0, (this.look.roles ?? []).indexOf('hips'))
    const move = new Matrix4()
    if (round && clip && poses)
      move.copy(times(lapOf(clip.joints, poses, hips, range, this.space.matrix), round))
    move.decompose(carrier.position, carrier.quaternion, carrier.scale)
    carrier.updateMatrix()
    carrier.updateMatrixWorld(true)
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

  /** How much each joint's place counts for the centre of mass; null hides it. */
  setWeight(shares: readonly number[] | null): void {
    this.weight.weigh(shares)
    this.pose()
  }

  /** The channel that is hovered: its joint, and its direction in the parent's space. */
  setHovered(hovered: Hovered): void {
    this.hovered = hovered
    this.pose()
  }

  /** Another figure beside this one, later by some frames; null takes it away. */
  setGuide(guide: Beside | null): void {
    this.guest?.leave()
    this.guest = guide && this.clip ? this.bring(guide, this.clip) : null
    this.pose()
  }

  /** The figures of other clips that stand in the scene. */
  setPartners(partners: readonly Beside[]): void {
    for (const partner of this.partners) partner.leave()
    const { clip } = this
    this.partners = clip ? partners.map((partner) => this.bring(partner, clip)) : []
    this.pose()
  }

  private bring(beside: Beside, clip: Clip): Guest {
    const guest = new Guest(beside, clip, this.space, this.look)
    guest.line = this.figure?.line ?? 0
    return guest
  }

  private get guests(): Guest[] {
    return this.guest ? [this.guest, ...this.partners] : this.partners
  }

  /** Another clip's poses at a frame in place of this one's, beside the figure that stands there;
   * null shows this one's. Views go along: pairs lie anywhere. */
  setMeeting(met: Stage['met'], stand?: Stand): void {
    if (!met && !this.met) return
    this.met = met
    if (stand) this.guest?.stand(stand)
    this.poseAndFollow(true)
  }

  /** A point in metres, in the clip's own unit and axes. */
  inUnits(point: Vector3): Vector3 {
    return this.space.worldToLocal(point.clone())
  }

  /** Where the figures beside this one are, in metres; none where there are none. */
  guestPoints(): Vector3[] {
    return this.guests.flatMap((guest) => guest.figure.places((p) => this.space.localToWorld(p)))
  }

  /** Something that the pose is made of has changed. */
  refresh(): void {
    this.unposed = true
    this.draw()
  }

  /** The figure stands where it stood: it is posed with the next picture. */
  private unposed = false

  /** Mark joints where something is found: asked for at each frame shown. */
  setFindings(foundAt: (frame: number) => readonly number[]): void {
    this.foundAt = foundAt
    this.pose()
  }

  /** Joints that stand otherwise than they are keyed. */
  setUnkeyed(joints: ReadonlySet<number>): void {
    this.unkeyed = joints
    this.figure?.dash(joints)
    this.draw()
  }

  /** Show where plants hold, or not. */
  setPlaces(placing: Stage['placing']): void {
    this.placing = placing
    this.pose()
  }

  recolour(): void {
    this.figure?.colour(this.plain ? NOBODY : this.selected)
    this.ghost?.colour(this.selected)
    for (const guest of this.guests) guest.figure.colour(NOBODY)
    this.references.draw()
    this.props.ink()
    this.gizmo.ink()
    this.draw()
  }

  private pose(): void {
    this.unposed = false
    if (!this.poses || !this.figure) return
    const at = this.met?.at ?? this.frameShown(this.frame)
    if (this.met) this.figure.pose(this.met.poses, at)
    else this.figure.pose(this.poses, at, this.overrides(at))
    if (this.ghost) {
      this.ghost.group.visible = this.before !== null && !this.met
      if (this.before) this.ghost.pose(this.before, at)
    }
    for (const guest of this.guests) guest.pose(at, this.figure.world, this.look.roles)
    this.poseAround(at)
    this.pointOut()
    if (this.placing && this.clip && !this.plain)
      this.places.show(
        this.clip,
        this.figure.world,
        this.poses,
        at,
        this.placing.chosen,
        this.placing.joints,
      )
    else this.places.hide()
    this.props.show(this.clip?.props ?? [], this.poses, at, this.propAhead)
    this.marks?.show(this.figure.world, this.plain ? [] : this.foundAt(this.frame))
    this.root.fromArray(this.figure.world.position, 0)
    this.space.localToWorld(this.root)
    this.shades.show(this.figure.soles((point) => this.space.localToWorld(point)))
    this.onPosed()
    this.draw()
  }

  /** Called when the figure stands elsewhere: what hangs on its joints follows. */
  onPosed: () => void = () => {}

  private poseAround(at: number): void {
    const { poses, clip } = this
    if (!poses || !clip) return
    const around =
      this.plain || this.met ? { ...this.around, trails: false, ghosts: false } : this.around
    const joints = around.trails ? [...this.selected].slice(0, MOST_TRAILS) : []
    const first = Math.max(0, at - around.span)
    const last = Math.min(poses.frames - 1, at + around.span)
    const along = Array.from({ length: last - first + 1 }, (_, k) => first + k)
    this.trails?.show(clip, poses, joints, along, this.keysOf, this.overrides)
    const path = around.trails ? along : []
    if (this.plain || this.met) this.weight.group.visible = false
    else if (this.figure) this.weight.show(clip, poses, this.figure.world, path, this.overrides)
    const alike = new Set(joints.flatMap((joint) => this.look.roles?.[joint] ?? []))
    for (const partner of this.partners) partner.trail(alike, around.trails ? along : [])
    const { span, apart } = around
    const frames = around.ghosts ? framesAround(at, span, apart, poses.frames) : []
    this.ghosts.show(clip, this.look, this.figure?.line ?? 0, poses, frames, this.overrides)
  }

  /** The direction of the hovered channel, at its joint. */
  private pointOut(): void {
    const found = this.plain ? null : this.hovered()
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
    const shown = this.references.points()
    return [
      ...this.clip.joints.map((_, j) => this.joint(j)),
      ...tips,
      ...shown,
      ...this.guestPoints(),
    ]
  }

  /** How a joint's axes lie in the scene; those of the skeleton's space for -1. */
  turnOf(index: number): Quaternion {
    const out = this.space.quaternion.clone()
    if (index < 0 || !this.figure) return out
    return out.multiply(new Quaternion().fromArray(this.figure.world.rotation, 4 * index))
  }

  /** All joints as they stand, in the skeleton's space: a copy. */
  worldNow(): WorldPose {
    const { position, rotation } = this.figure!.world
    return { position: position.slice(), rotation: rotation.slice() }
  }

  /** A joint's rotation in the skeleton's space. */
  worldRotation(index: number): [number, number, number, number] {
    const all = this.figure!.world.rotation
    return [all[4 * index]!, all[4 * index + 1]!, all[4 * index + 2]!, all[4 * index + 3]!]
  }

  /** Frame the figure from where the view looks. */
  fit(): void {
    this.references.stand(this.root)
    this.eye.look(this.eye.direction, this.points())
    this.draw()
  }

  /** Look at where a plant holds, from near, in the direction one looks. */
  lookAtPlant(plant: Plant): void {
    const found = this.places.placed.find((p) => p.plant.part === plant.part)
    if (!found || !this.clip) return
    const around = 0.12 * (this.clip.height || 1)
    const corners = [-around, around].flatMap((x) =>
      [-around, around].flatMap((y) =>
        [-around, around].map((z) => found.at.clone().add(new Vector3(x, y, z))),
      ),
    )
    const points = corners.map((point) => this.space.localToWorld(point))
    this.eye.look(this.eye.direction, points)
    this.draw()
  }

  view(view: View): void {
    this.eye.view(view, this.points())
    this.draw()
  }

  /** Look through a placed camera. */
  through(camera: Placed): void {
    this.eye.through(camera)
    this.draw()
  }

  /** The joint nearest to a point of a view, within reach of a hand; else the one whose limb lies
   * there; or -1. However small a joint is drawn, its reach is the same. */
  pick(eye: Eye, x: number, y: number): number {
    if (!this.clip || !this.figure) return -1
    const places = this.clip.joints.map((_, j) => eye.project(this.joint(j)))
    let best = -1
    let nearest = PICK_PIXELS
    const near = (j: number, distance: number) => {
      if (distance >= nearest) return
      nearest = distance
      best = j
    }
    for (const [j, [px, py]] of places.entries()) near(j, Math.hypot(px - x, py - y))
    if (best >= 0) return best
    nearest = LIMB_PIXELS
    for (const { joint, child } of this.figure.bones)
      if (child >= 0) near(joint, awayFrom([x, y], places[joint]!, places[child]!))
    return best
  }

  /** Outlines stay about a pixel wide at any distance. */
  private keepLine(): void {
    if (!this.figure || !this.ghost || !this.clip || !this.poses) return
    const { camera, controls } = this.eyes[0]
    const pixel = this.eyes[0].pixelAt(camera.position.distanceTo(controls.target))
    const line = (LINE_PIXELS * pixel) / this.clip.reading.metres_per_unit
    if (Math.abs(line / (this.figure.line || 1e-9) - 1) < 0.05) return
    for (const figure of [this.figure, this.ghost, ...this.ghosts.figures]) figure.line = line
    for (const guest of this.guests) guest.line = line
    this.pose()
  }

  /** Ask for a picture at the next frame of the display. */
  draw = (): void => {
    if (this.asked) return
    this.asked = true
    this.canvas.dataset.still = 'false'
    const picture = (now: number) => {
      // Where pictures are made by the processor, many dragged keys go before many pictures.
      if (this.software && this.heavy() && now - this.last < SELDOM) {
        requestAnimationFrame(picture)
        return
      }
      this.asked = false
      this.last = now
      this.drawn++
      if (this.unposed) this.pose()
      this.keepLine()
      if (this.smooth) this.sharpen(false)
      if (!this.sketched()) {
        this.render()
        this.quick?.show(false)
      }
      this.tell()
      if (!this.software) {
        this.canvas.dataset.still = 'true'
        return
      }
      // While it moves pictures are rough and many; once it rests one is made with smooth edges.
      clearTimeout(this.resting)
      this.resting = setTimeout(() => {
        this.sharpen(true)
        this.render()
        this.quick?.show(false)
        // The picture that stays, for whoever drives the page without seeing it.
        this.canvas.dataset.still = String(!this.asked)
      }, REST)
    }
    requestAnimationFrame(picture)
  }

  /** Whether so much is dragged elsewhere that pictures here may be fewer. */
  heavy: () => boolean = () => false
  private last = 0

  private render(): void {
    const { clientWidth: width, clientHeight: height } = this.canvas
    const each = width / this.seeing.length
    this.renderer.setScissorTest(this.split)
    this.seeing.forEach((eye, k) => {
      this.renderer.setViewport(k * each, 0, each, height)
      this.renderer.setScissor(k * each, 0, each, height)
      this.face(eye)
      this.renderer.render(this.scene, eye.camera)
    })
  }

  /** A picture without WebGL, where that would be slower and can be had; whether it was. */
  private sketched(): boolean {
    const cameras = this.seeing.map((eye) => eye.camera)
    const face = (k: number) => this.face(this.seeing[k]!)
    return (
      this.quick?.draw(cameras, String(this.references.looks), face, () => this.render()) ?? false
    )
  }

  /** Where things are, for whoever drives the page without seeing it, and what is out of sight. */
  private tell(): void {
    for (const eye of this.seeing) {
      const told = this.gizmo.told(eye)
      if (eye.element.dataset.gizmo !== told) eye.element.dataset.gizmo = told
      const places = this.places.told(eye)
      if (eye.element.dataset.places !== places) eye.element.dataset.places = places
    }
    const joints = this.plain || !this.figure ? 0 : (this.clip?.joints.length ?? 0)
    const root = Math.max(0, this.clip?.joints.findIndex((j) => j.parent < 0) ?? 0)
    const from = this.eye === this.eyes[1] ? this.eye.size[0] : 0
    const place = (joint: number) => this.joint(joint)
    this.onAway(joints ? awayFromView(this.eye, joints, place, root, from) : null)
  }

  private face(eye: Eye): void {
    this.gizmo.fit(eye)
    this.references.face(eye)
  }

  /** The figure at a frame as a picture of its own, seen as the first view sees it. */
  picture(frame: number, width: number, height: number): HTMLCanvasElement {
    const eye = this.eyes[0]
    const [now, ratio] = [this.frame, this.renderer.getPixelRatio()]
    const out = document.createElement('canvas')
    out.width = width
    out.height = height
    const g = out.getContext('2d')!
    g.fillStyle = token('paper')
    g.fillRect(0, 0, width, height)
    this.frame = frame
    this.pose()
    this.renderer.setPixelRatio(1)
    // Twice as large and drawn smaller: smooth edges, whoever makes the picture.
    this.renderer.setSize(2 * width, 2 * height, false)
    this.renderer.setScissorTest(false)
    this.renderer.setViewport(0, 0, 2 * width, 2 * height)
    eye.camera.aspect = width / height
    eye.camera.updateProjectionMatrix()
    this.face(eye)
    this.renderer.render(this.scene, eye.camera)
    g.drawImage(this.canvas, 0, 0, width, height)
    this.frame = now
    this.renderer.setPixelRatio(ratio)
    this.renderer.setSize(this.canvas.clientWidth, this.canvas.clientHeight, false)
    eye.resize()
    this.pose()
    return out
  }

  private sharpen(smooth: boolean): void {
    this.smooth = smooth
    this.renderer.setPixelRatio(Math.min(devicePixelRatio, 2) * (smooth ? 2 : 1))
  }
}
