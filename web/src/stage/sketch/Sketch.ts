/** The scene drawn without a graphics card: quick pictures for while something moves.
 *
 * Where pictures are made by the processor, most of a picture's time goes into carrying it out of
 * WebGL. What moves is drawn into a canvas of its own instead, over a floor that is kept.
 */
import {
  BackSide,
  type BufferGeometry,
  type Camera,
  type Color,
  DoubleSide,
  LineSegments,
  type Material,
  Matrix4,
  Mesh,
  type MeshBasicMaterial,
  type Object3D,
  Points,
  type PointsMaterial,
  Sprite,
  Vector3,
} from 'three'
import { type Paint, Raster, type Viewport } from './raster'

/** A camera and the part of the picture, in pixels, that it is seen in. */
export interface Seen {
  camera: Camera
  view: Viewport
}

interface Stamp {
  image: CanvasImageSource
  x: number
  y: number
  width: number
  height: number
}

/** Whether a material is drawn after all that hides what is behind it. */
const late = (object: Object3D) => (materialOf(object) as Material).transparent
const materialOf = (object: Object3D) => (object as Mesh).material as MeshBasicMaterial

export class Sketch {
  readonly canvas = document.createElement('canvas')
  private g = this.canvas.getContext('2d', { willReadFrequently: true })!
  private raster: Raster | null = null
  private last: Raster['box'] = [0, 0, 0, 0]
  private stamps: Stamp[] = []
  private points = new Float32Array(0)
  private tints = new Map<string, HTMLCanvasElement>()

  /** Keep what stands behind all that moves: a picture of so many pixels. */
  setGround(picture: CanvasImageSource, width: number, height: number): void {
    this.canvas.width = width
    this.canvas.height = height
    this.g.drawImage(picture, 0, 0)
    const ground = this.g.getImageData(0, 0, width, height)
    this.raster = new Raster(width, height, new Uint32Array(ground.data.buffer))
    this.last = [0, 0, 0, 0]
  }

  /** Draw what is visible of some objects, each view with its camera after it was prepared; false
   * where something is among it that only WebGL can draw. `ratio` is pixels of the picture to one of
   * the page. */
  draw(
    objects: readonly Object3D[],
    views: readonly Seen[],
    ratio: number,
    face: (k: number) => void,
  ) {
    const { raster } = this
    if (!raster) return false
    raster.begin()
    this.stamps = []
    for (const [k, { camera, view }] of views.entries()) {
      face(k)
      for (const object of objects) object.updateMatrixWorld()
      const found = parts(objects, camera)
      if (!found?.every((part) => this.part(part, camera, view, ratio))) return false
    }
    this.show(raster)
    return true
  }

  private show(raster: Raster): void {
    const [left, top, right, bottom] = this.last.map((was, n) =>
      n < 2 ? Math.min(was, raster.box[n]!) : Math.max(was, raster.box[n]!),
    ) as Raster['box']
    if (right > left && bottom > top)
      this.g.putImageData(raster.image, 0, 0, left, top, right - left, bottom - top)
    for (const { image, x, y, width, height } of this.stamps) {
      this.g.drawImage(image, x, y, width, height)
      raster.touch(Math.floor(x), Math.floor(y), Math.ceil(x + width), Math.ceil(y + height))
    }
    this.last = [...raster.box]
  }

  /** One object; false where it cannot be drawn so. */
  private part(object: Object3D, camera: Camera, view: Viewport, ratio: number): boolean {
    if (object instanceof Sprite) return this.sprite(object, camera, view)
    const { geometry } = object as Mesh
    const count = shownOf(geometry)
    if (!this.project(geometry, count, throughOf(object.matrixWorld, camera), view)) return false
    const paint = paintOf(materialOf(object), geometry)
    if (object instanceof Mesh) return this.mesh(object, view, paint)
    if (object instanceof Points) {
      const { size, map } = object.material as PointsMaterial
      for (let k = 0; k < count; k++)
        if (map) this.stamp(map.image as HTMLCanvasElement, paint, this.at(k), size * ratio)
        else this.raster!.dot(this.at(k), size * ratio, view, oneOf(paint, k))
      return true
    }
    for (let k = 0; k + 1 < count; k += 2)
      this.raster!.line(this.at(k), this.at(k + 1), view, paint)
    return true
  }

  private mesh({ geometry, material }: Mesh, view: Viewport, paint: Paint): boolean {
    const { side } = material as MeshBasicMaterial
    const facing = side === DoubleSide ? 0 : side === BackSide ? -1 : 1
    const index = geometry.index?.array
    if (!index) return false
    this.raster!.triangles(this.points, index, index.length, facing, view, paint)
    return true
  }

  private at(k: number): [number, number, number] {
    return [this.points[3 * k]!, this.points[3 * k + 1]!, this.points[3 * k + 2]!]
  }

  /** Vertices in pixels, with depths; false where one of them is not before the camera. */
  private project(
    geometry: BufferGeometry,
    count: number,
    { elements: m }: Matrix4,
    view: Viewport,
  ): boolean {
    if (count === 0) return true
    const from = geometry.getAttribute('position').array
    if (this.points.length < 3 * count) this.points = new Float32Array(3 * count)
    const [half, tall] = [view.width / 2, this.raster!.height / 2]
    const { points } = this
    for (let i = 0; i < 3 * count; i += 3) {
      const [x, y, z] = [from[i]!, from[i + 1]!, from[i + 2]!]
      const w = m[3]! * x + m[7]! * y + m[11]! * z + m[15]!
      if (w <= 0) return false
      points[i] = view.x + half * (1 + (m[0]! * x + m[4]! * y + m[8]! * z + m[12]!) / w)
      points[i + 1] = tall * (1 - (m[1]! * x + m[5]! * y + m[9]! * z + m[13]!) / w)
      points[i + 2] = (m[2]! * x + m[6]! * y + m[10]! * z + m[14]!) / w
    }
    return true
  }

  private sprite(sprite: Sprite, camera: Camera, view: Viewport): boolean {
    const { map, depthTest } = sprite.material
    if (!map || depthTest) return false
    const through = throughOf(new Matrix4(), camera)
    const [middle, side] = [new Vector3(), new Vector3()]
    middle.setFromMatrixPosition(sprite.matrixWorld)
    const scale = new Vector3().setFromMatrixScale(sprite.matrixWorld)
    // A sprite faces whoever looks: as wide as its size at its distance.
    side.setFromMatrixColumn(camera.matrixWorld, 0).normalize().multiplyScalar(scale.x)
    side.add(middle).applyMatrix4(through)
    middle.applyMatrix4(through)
    if (middle.z > 1 || middle.z < -1) return true
    const width = (Math.abs(side.x - middle.x) * view.width) / 2
    const x = view.x + (view.width * (1 + middle.x)) / 2
    const y = (this.raster!.height * (1 - middle.y)) / 2
    const image = map.image as HTMLCanvasElement
    this.stamps.push({ image, x: x - width / 2, y: y - width / 2, width, height: width })
    return true
  }

  /** An image about a point, its white in the paint's colour. */
  private stamp(
    image: HTMLCanvasElement,
    paint: Paint,
    at: [number, number, number],
    size: number,
  ) {
    const [r, g, b] = paint.colours
    const colour = `rgb(${r} ${g} ${b})`
    let tinted = this.tints.get(colour)
    if (!tinted) {
      tinted = document.createElement('canvas')
      tinted.width = image.width
      tinted.height = image.height
      const pen = tinted.getContext('2d')!
      pen.drawImage(image, 0, 0)
      pen.globalCompositeOperation = 'source-in'
      pen.fillStyle = colour
      pen.fillRect(0, 0, image.width, image.height)
      this.tints.set(colour, tinted)
    }
    const [x, y] = at
    this.stamps.push({ image: tinted, x: x - size / 2, y: y - size / 2, width: size, height: size })
  }
}

const DRAWN = [Sprite, Mesh, Points, LineSegments]

/** What is visible of some objects, in the order in which it is drawn; null where a part is of a kind
 * that is not drawn here. */
function parts(objects: readonly Object3D[], camera: Camera): Object3D[] | null {
  const found: Object3D[] = []
  let strange = false
  const walk = (object: Object3D) => {
    if (!object.visible) return
    if (DRAWN.some((kind) => object instanceof kind)) found.push(object)
    else if ('isLine' in object) strange = true
    for (const child of object.children) walk(child)
  }
  for (const object of objects) walk(object)
  if (strange) return null
  const place = new Vector3()
  const depth = new Map(
    found.map((o) => [o, place.setFromMatrixPosition(o.matrixWorld).project(camera).z]),
  )
  return found.sort(
    (a, b) =>
      Number(late(a)) - Number(late(b)) ||
      a.renderOrder - b.renderOrder ||
      (late(a) ? depth.get(b)! - depth.get(a)! : 0),
  )
}

const throughOf = (world: Matrix4, camera: Camera): Matrix4 =>
  new Matrix4().multiplyMatrices(camera.projectionMatrix, camera.matrixWorldInverse).multiply(world)

/** How many vertices of a geometry are drawn: of one with faces all. */
const shownOf = ({ attributes, drawRange, index }: BufferGeometry): number =>
  Math.min(attributes.position?.count ?? 0, index ? Number.POSITIVE_INFINITY : drawRange.count)

/** From how bright light is to how bright a screen is told to be (IEC 61966-2-1), in 4,096 steps. */
const BRIGHT = Uint8ClampedArray.from({ length: 4097 }, (_, k) => {
  const v = k / 4096
  return 255 * (v <= 0.0031308 ? 12.92 * v : 1.055 * v ** (1 / 2.4) - 0.055)
})

const bright = (v: number): number => BRIGHT[(4096 * Math.min(Math.max(v, 0), 1) + 0.5) | 0]!

const byteColour = ({ r, g, b }: Color): [number, number, number] => [
  bright(r),
  bright(g),
  bright(b),
]

/** Bytes of each geometry's colours, written anew for each picture. */
const bytes = new WeakMap<BufferGeometry, Uint8Array>()

function vertexColours(geometry: BufferGeometry, from: ArrayLike<number>): Uint8Array {
  let out = bytes.get(geometry)
  if (out?.length !== from.length) {
    out = new Uint8Array(from.length)
    bytes.set(geometry, out)
  }
  for (let i = 0; i < from.length; i++) out[i] = bright(from[i]!)
  return out
}

function paintOf(material: MeshBasicMaterial, geometry: BufferGeometry): Paint {
  const { color, hatch, dash } = geometry.attributes
  const ink = material.userData.hatchInk as { value: Color } | undefined
  return {
    colours:
      material.vertexColors && color
        ? vertexColours(geometry, color.array)
        : Uint8Array.from(byteColour(material.color)),
    opacity: material.transparent ? material.opacity : 1,
    tested: material.depthTest,
    written: material.depthWrite,
    offset: material.polygonOffset
      ? [material.polygonOffsetFactor, material.polygonOffsetUnits]
      : null,
    hatch: hatch && ink ? { on: hatch.array, ink: byteColour(ink.value) } : null,
    dash: dash ? dash.array : null,
  }
}

/** The paint of one vertex. */
const oneOf = (paint: Paint, k: number): Paint =>
  paint.colours.length > 3 ? { ...paint, colours: paint.colours.slice(3 * k, 3 * k + 3) } : paint
