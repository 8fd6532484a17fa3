/** The drawn figure: a paper body with an ink line, made from the skeleton; or lines and dots. */
import {
  BackSide,
  BufferAttribute,
  BufferGeometry,
  Color,
  DynamicDrawUsage,
  Group,
  LineBasicMaterial,
  LineSegments,
  Mesh,
  MeshBasicMaterial,
  Points,
  PointsMaterial,
  Quaternion,
  Vector3,
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
import { bonesOf } from './bones'
import { type Solids, solidsOf } from './solids'

export interface Look {
  /** What joints are taken for; null while it is not known. */
  roles: readonly (string | null)[] | null
  /** Lines and dots alone. */
  bare: boolean
}

const LIGHT = new Vector3(0.35, 0.85, 0.4).normalize()
/** How much darker the side away from the light is. */
const SHADE = 0.2

/** Hatching in the picture's own pixels: fine lines of ink, wherever the figure stands. */
function hatched(material: MeshBasicMaterial, ink: { value: Color }): MeshBasicMaterial {
  material.onBeforeCompile = (shader) => {
    shader.uniforms.hatchInk = ink
    shader.vertexShader =
      `attribute float hatch;\nvarying float vHatch;\n${shader.vertexShader}`.replace(
        '#include <begin_vertex>',
        '#include <begin_vertex>\nvHatch = hatch;',
      )
    shader.fragmentShader =
      `varying float vHatch;\nuniform vec3 hatchInk;\n${shader.fragmentShader}`.replace(
        '#include <color_fragment>',
        '#include <color_fragment>\nif (vHatch > 0.5 && mod(gl_FragCoord.x + gl_FragCoord.y, 5.0) < 1.0) diffuseColor.rgb = mix(diffuseColor.rgb, hatchInk, 0.45);',
      )
  }
  return material
}

/** An outline that is dashed where asked, in the picture's own pixels. */
function dashed(material: MeshBasicMaterial): MeshBasicMaterial {
  material.onBeforeCompile = (shader) => {
    shader.vertexShader =
      `attribute float dash;\nvarying float vDash;\n${shader.vertexShader}`.replace(
        '#include <begin_vertex>',
        '#include <begin_vertex>\nvDash = dash;',
      )
    shader.fragmentShader = `varying float vDash;\n${shader.fragmentShader}`.replace(
      '#include <color_fragment>',
      '#include <color_fragment>\nif (vDash > 0.5 && mod(gl_FragCoord.x - gl_FragCoord.y, 9.0) < 4.0) discard;',
    )
  }
  return material
}

export class Figure {
  readonly group = new Group()
  readonly world: WorldPose
  /** Thickness of the ink outline, in the skeleton's unit. */
  line = 0
  private solids: Solids
  private fill: Mesh
  private outline: Mesh
  private lines: LineSegments
  private dots: Points
  readonly bones
  private base: Float32Array
  private hatchInk = { value: new Color() }
  private bare: boolean

  constructor(
    private clip: Drawn,
    look: Look,
    /** How firmly it is drawn: 1 for the figure itself, less for ghosts. */
    private opacity = 1,
  ) {
    this.world = emptyWorld(clip.joints.length)
    this.bones = bonesOf(clip.joints, clip.end_sites)
    this.solids = solidsOf(clip, this.bones, look.roles)
    this.bare = look.bare
    const ghost = opacity < 1
    // A ghost lies behind the figure where both are in one place.
    const behind = { polygonOffset: ghost, polygonOffsetFactor: 6, polygonOffsetUnits: 6 }
    const see = { transparent: ghost, opacity, depthWrite: !ghost, ...behind }
    const count = this.solids.position.length / 3
    this.base = new Float32Array(3 * count)
    const body = shape(count, this.solids)
    body.setAttribute('hatch', new BufferAttribute(this.solids.hatch, 1))
    this.fill = new Mesh(
      body,
      hatched(new MeshBasicMaterial({ ...see, vertexColors: true }), this.hatchInk),
    )
    const edge = shape(count, this.solids)
    edge.setAttribute('dash', new BufferAttribute(new Float32Array(count), 1))
    this.outline = new Mesh(
      edge,
      dashed(new MeshBasicMaterial({ ...see, side: BackSide, vertexColors: true })),
    )
    const points = new BufferGeometry()
    points.setAttribute('position', changing(new Float32Array(6 * this.bones.length)))
    this.lines = new LineSegments(points, new LineBasicMaterial({ transparent: ghost, opacity }))
    const dots = new BufferGeometry()
    dots.setAttribute('position', changing(new Float32Array(3 * clip.joints.length)))
    dots.setAttribute('color', changing(new Float32Array(3 * clip.joints.length)))
    this.dots = new Points(
      dots,
      new PointsMaterial({ size: 5, sizeAttenuation: false, vertexColors: true }),
    )
    this.fill.visible = !ghost && !this.bare
    this.outline.visible = !this.bare
    this.lines.visible = this.bare
    this.dots.visible = this.bare && !ghost
    for (const part of [this.outline, this.fill, this.lines, this.dots]) {
      part.frustumCulled = false
      this.group.add(part)
    }
  }

  pose(poses: Poses, frame: number, overrides?: Overrides): void {
    forward(this.clip.joints, poses, frame, this.world, overrides)
    if (this.bare) this.poseLines()
    else this.poseSolids()
  }

  /** Where its joints are, through what it stands in. */
  places(outward: (point: Vector3) => Vector3): Vector3[] {
    this.group.updateMatrix()
    return this.clip.joints.map((_, j) =>
      outward(new Vector3().fromArray(this.world.position, 3 * j).applyMatrix4(this.group.matrix)),
    )
  }

  private poseLines(): void {
    const { position, rotation } = this.world
    const ends = this.lines.geometry.getAttribute('position') as BufferAttribute
    const tip = new Vector3()
    const turn = new Quaternion()
    this.bones.forEach((bone, k) => {
      ends.setXYZ(
        2 * k,
        position[3 * bone.joint]!,
        position[3 * bone.joint + 1]!,
        position[3 * bone.joint + 2]!,
      )
      if (bone.child >= 0) tip.fromArray(position, 3 * bone.child)
      else {
        turn.fromArray(rotation, 4 * bone.joint)
        tip.fromArray(bone.tip).applyQuaternion(turn)
        tip.add(new Vector3().fromArray(position, 3 * bone.joint))
      }
      ends.setXYZ(2 * k + 1, tip.x, tip.y, tip.z)
    })
    ends.needsUpdate = true
    const dots = this.dots.geometry.getAttribute('position') as BufferAttribute
    ;(dots.array as Float32Array).set(position)
    dots.needsUpdate = true
  }

  private poseSolids(): void {
    const { position, rotation } = this.world
    const { solids, position: at, normal } = this.solids
    const fill = this.fill.geometry.getAttribute('position').array as Float32Array
    const hull = this.outline.geometry.getAttribute('position').array as Float32Array
    const colour = this.fill.geometry.getAttribute('color').array as Float32Array
    const line = 1.5 * this.line
    const turn = new Quaternion()
    const bend = new Quaternion()
    const [along, rest, up] = [new Vector3(), new Vector3(), new Vector3()]
    for (const solid of solids) {
      const j = solid.joint
      const [ox, oy, oz] = [position[3 * j]!, position[3 * j + 1]!, position[3 * j + 2]!]
      turn.fromArray(rotation, 4 * j)
      let stretch = 1
      if (solid.child >= 0) {
        // The far end may have moved of its own: the limb leads there.
        along.fromArray(position, 3 * solid.child)
        along.x -= ox
        along.y -= oy
        along.z -= oz
        const length = along.length()
        rest.copy(solid.axis).applyQuaternion(turn)
        stretch = length / solid.length
        if (length > 1e-9 && rest.dot(along) < (1 - 1e-6) * length)
          turn.premultiply(bend.setFromUnitVectors(rest, along.divideScalar(length)))
      }
      const { x, y, z, w } = turn
      const m = [
        1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w),
        2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w),
        2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y),
      ] as const // biome-ignore format: a matrix
      const { axis } = solid
      const more = Math.abs(stretch - 1) > 1e-6 ? stretch - 1 : 0
      for (let i = 3 * solid.at; i < 3 * (solid.at + solid.count); i += 3) {
        let [px, py, pz] = [at[i]!, at[i + 1]!, at[i + 2]!]
        if (more) {
          const by =
            more * Math.min(Math.max(px * axis.x + py * axis.y + pz * axis.z, 0), solid.length)
          px += by * axis.x
          py += by * axis.y
          pz += by * axis.z
        }
        const [nx, ny, nz] = [normal[i]!, normal[i + 1]!, normal[i + 2]!]
        const wx = ox + m[0] * px + m[1] * py + m[2] * pz
        const wy = oy + m[3] * px + m[4] * py + m[5] * pz
        const wz = oz + m[6] * px + m[7] * py + m[8] * pz
        up.set(
          m[0] * nx + m[1] * ny + m[2] * nz,
          m[3] * nx + m[4] * ny + m[5] * nz,
          m[6] * nx + m[7] * ny + m[8] * nz,
        )
        fill[i] = wx
        fill[i + 1] = wy
        fill[i + 2] = wz
        hull[i] = wx + line * up.x
        hull[i + 1] = wy + line * up.y
        hull[i + 2] = wz + line * up.z
        const lit = 1 - SHADE * (0.5 - 0.5 * up.dot(LIGHT))
        colour[i] = this.base[i]! * lit
        colour[i + 1] = this.base[i + 1]! * lit
        colour[i + 2] = this.base[i + 2]! * lit
      }
    }
    for (const [mesh, names] of [
      [this.fill, ['position', 'color']],
      [this.outline, ['position']],
    ] as const)
      for (const name of names)
        (mesh.geometry.getAttribute(name) as BufferAttribute).needsUpdate = true
  }

  /** Where the soles are in the scene, each with the height of its lowest point. */
  soles(placed: (point: Vector3) => Vector3): { at: Vector3; height: number }[] {
    const points = this.fill.geometry.getAttribute('position').array as Float32Array
    return this.bare
      ? []
      : this.solids.soles.map(({ at, count }) => {
          const middle = new Vector3()
          let lowest = Number.POSITIVE_INFINITY
          for (let i = at; i < at + count; i++) {
            const point = placed(new Vector3().fromArray(points, 3 * i))
            middle.add(point)
            lowest = Math.min(lowest, point.y)
          }
          return { at: middle.divideScalar(count), height: lowest }
        })
  }

  colour(selected: ReadonlySet<number>): void {
    const paper = new Color(token('raised'))
    const ink = new Color(token(this.opacity < 1 ? 'ghost' : 'ink'))
    const calm = new Color(token('calm'))
    const soft = paper.clone().lerp(calm, 0.62)
    this.hatchInk.value.copy(ink)
    const edge = this.outline.geometry.getAttribute('color') as BufferAttribute
    const own = this.fill.geometry.getAttribute('color') as BufferAttribute
    for (const { joint, at, count } of this.solids.solids) {
      const chosen = selected.has(joint) && this.opacity === 1
      for (let i = at; i < at + count; i++) {
        ;(chosen ? soft : paper).toArray(this.base, 3 * i)
        ;(chosen ? calm : ink).toArray(edge.array, 3 * i)
      }
    }
    ;(own.array as Float32Array).set(this.base)
    own.needsUpdate = edge.needsUpdate = true
    ;(this.lines.material as LineBasicMaterial).color = ink
    const dots = this.dots.geometry.getAttribute('color') as BufferAttribute
    this.clip.joints.forEach((_, j) => {
      ;(selected.has(j) ? calm : ink).toArray(dots.array, 3 * j)
    })
    dots.needsUpdate = true
  }

  /** Draw the outline of some joints dashed: as they stand they are not keyed. */
  dash(joints: ReadonlySet<number>): void {
    const dash = this.outline.geometry.getAttribute('dash') as BufferAttribute
    for (const { joint, at, count } of this.solids.solids)
      dash.array.fill(joints.has(joint) && this.opacity === 1 ? 1 : 0, at, at + count)
    dash.needsUpdate = true
  }

  dispose(): void {
    for (const part of [this.fill, this.outline, this.lines, this.dots]) {
      part.geometry.dispose()
      ;(part.material as MeshBasicMaterial).dispose()
    }
  }
}

function changing(values: Float32Array): BufferAttribute {
  return new BufferAttribute(values, 3).setUsage(DynamicDrawUsage)
}

function shape(count: number, { index }: Solids): BufferGeometry {
  const geometry = new BufferGeometry()
  geometry.setAttribute('position', changing(new Float32Array(3 * count)))
  geometry.setAttribute('color', changing(new Float32Array(3 * count)))
  geometry.setIndex(index)
  return geometry
}
