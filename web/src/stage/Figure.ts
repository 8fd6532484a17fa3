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
import type { Skin } from '../evaluation/skin'
import type { Drawn } from '../sync/retargeting'
import { token } from '../ui/theme'
import { bonesOf } from './bones'
import { Drawing, type Flesh, Own } from './flesh'
import { DASH, HATCH } from './patterns'
import { solidsOf } from './solids'

export interface Look {
  /** What joints are taken for; null while it is not known. */
  roles: readonly (string | null)[] | null
  /** Lines and dots alone. */
  bare: boolean
  /** In a lighter ink than the figure itself. */
  pale?: boolean
}

const LIGHT = new Vector3(0.35, 0.85, 0.4).normalize()
/** How much darker the side away from the light is. */
const SHADE = 0.2

/** Hatching in the picture's own pixels: fine lines of ink, wherever the figure stands. */
function hatched(material: MeshBasicMaterial, ink: { value: Color }): MeshBasicMaterial {
  material.userData.hatchInk = ink
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
        `#include <color_fragment>\nif (vHatch > 0.5 && mod(gl_FragCoord.x + gl_FragCoord.y, ${HATCH.every.toFixed(1)}) < 1.0) diffuseColor.rgb = mix(diffuseColor.rgb, hatchInk, ${HATCH.share});`,
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
      `#include <color_fragment>\nif (vDash > 0.5 && mod(gl_FragCoord.x - gl_FragCoord.y, ${DASH.every.toFixed(1)}) < ${DASH.gap.toFixed(1)}) discard;`,
    )
  }
  return material
}

export class Figure {
  readonly group = new Group()
  readonly world: WorldPose
  /** Thickness of the ink outline, in the skeleton's unit. */
  line = 0
  private flesh: Flesh
  private fill: Mesh
  private outline: Mesh
  private lines: LineSegments
  private dots: Points
  readonly bones
  private base: Float32Array
  private normals: Float32Array
  private share: Float32Array
  private hatchInk = { value: new Color() }
  private bare: boolean
  private pale: boolean

  constructor(
    private clip: Drawn,
    look: Look,
    /** How firmly it is drawn: 1 for the figure itself, less for ghosts. */
    private opacity = 1,
    /** Its own body, where it is drawn as that. */
    skin: Skin | null = null,
  ) {
    this.world = emptyWorld(clip.joints.length)
    this.bones = bonesOf(clip.joints, clip.end_sites)
    this.flesh = skin
      ? new Own(skin, look.roles)
      : new Drawing(solidsOf(clip, this.bones, look.roles))
    this.bare = look.bare
    this.pale = look.pale ?? false
    const ghost = opacity < 1
    // A ghost lies behind the figure where both are in one place.
    const behind = { polygonOffset: ghost, polygonOffsetFactor: 6, polygonOffsetUnits: 6 }
    const see = { transparent: ghost, opacity, depthWrite: !ghost, ...behind }
    const { count } = this.flesh
    this.base = new Float32Array(3 * count)
    this.normals = new Float32Array(3 * count)
    this.share = new Float32Array(count)
    const body = shape(this.flesh)
    body.setAttribute('hatch', new BufferAttribute(this.flesh.hatch, 1))
    this.fill = new Mesh(
      body,
      hatched(new MeshBasicMaterial({ ...see, vertexColors: true }), this.hatchInk),
    )
    const edge = shape(this.flesh)
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
    else this.poseFlesh()
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

  private poseFlesh(): void {
    const fill = this.fill.geometry.getAttribute('position').array as Float32Array
    const hull = this.outline.geometry.getAttribute('position').array as Float32Array
    const colour = this.fill.geometry.getAttribute('color').array as Float32Array
    const { base, normals } = this
    this.flesh.pose(this.world, fill, normals)
    const line = 1.5 * this.line
    const { x, y, z } = LIGHT
    for (let i = 0; i < fill.length; i += 3) {
      const u = normals[i]!
      const v = normals[i + 1]!
      const w = normals[i + 2]!
      hull[i] = fill[i]! + line * u
      hull[i + 1] = fill[i + 1]! + line * v
      hull[i + 2] = fill[i + 2]! + line * w
      const lit = 1 - SHADE * (0.5 - 0.5 * (u * x + v * y + w * z))
      colour[i] = base[i]! * lit
      colour[i + 1] = base[i + 1]! * lit
      colour[i + 2] = base[i + 2]! * lit
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
      : this.flesh.soles.map((sole) => {
          const middle = new Vector3()
          let lowest = Number.POSITIVE_INFINITY
          for (const i of sole) {
            const point = placed(new Vector3().fromArray(points, 3 * i))
            middle.add(point)
            lowest = Math.min(lowest, point.y)
          }
          return { at: middle.divideScalar(sole.length), height: lowest }
        })
  }

  colour(selected: ReadonlySet<number>): void {
    const paper = new Color(token('raised'))
    const ink = new Color(token(this.pale || this.opacity < 1 ? 'ghost' : 'ink'))
    const calm = new Color(token('calm'))
    const soft = paper.clone().lerp(calm, 0.62)
    this.hatchInk.value.copy(ink)
    const edge = this.outline.geometry.getAttribute('color') as BufferAttribute
    const own = this.fill.geometry.getAttribute('color') as BufferAttribute
    const { share } = this
    if (this.opacity === 1) this.flesh.share(selected, share)
    const mixed = new Color()
    for (let i = 0; i < share.length; i++) {
      // Tinted as far as it goes with what is selected.
      mixed.lerpColors(paper, soft, share[i]!).toArray(this.base, 3 * i)
      ;(share[i]! > 0.5 ? calm : ink).toArray(edge.array, 3 * i)
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
    if (this.opacity === 1) this.flesh.share(joints, dash.array as Float32Array)
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

function shape({ count, index }: Flesh): BufferGeometry {
  const geometry = new BufferGeometry()
  geometry.setAttribute('position', changing(new Float32Array(3 * count)))
  geometry.setAttribute('color', changing(new Float32Array(3 * count)))
  geometry.setIndex(new BufferAttribute(new Uint32Array(index), 1))
  return geometry
}
