/** Triangles and lines drawn into pixels, the nearest on top: what a graphics card does, for where
 * there is none. Coordinates are pixels from the top left, depths grow away from whoever looks. */

import { DASH, HATCH } from '../patterns'

/** Part of the picture that is drawn into: from `x` on, `width` wide, all of the height. */
export interface Viewport {
  x: number
  width: number
}

export interface Paint {
  /** Red, green and blue of each vertex, 0 to 255; of all of them where there are three numbers. */
  colours: Uint8Array | Uint8ClampedArray
  /** 0 to 1. */
  opacity: number
  /** Nothing is drawn where something nearer was. */
  tested: boolean
  /** What is drawn later lies behind it where that is farther. */
  written: boolean
  /** Farther away by its own slope, and by so many of the smallest steps. */
  offset?: readonly [slope: number, steps: number] | null
  /** Vertices that are hatched, and red, green and blue of the lines. */
  hatch?: { on: ArrayLike<number>; ink: readonly [number, number, number] } | null
  /** Vertices whose faces are drawn as dashes. */
  dash?: ArrayLike<number> | null
}

/** The smallest step of a depth buffer of 24 bits, in depths from -1 to 1. */
const STEP = 2 ** -23
const OPAQUE = 0xff000000

export class Raster {
  readonly image: ImageData
  private pixels: Uint32Array
  private depth: Float32Array
  /** What was drawn on since the last `begin`: left, top, right, bottom. */
  box: [number, number, number, number]

  constructor(
    readonly width: number,
    readonly height: number,
    /** What stands behind all that is drawn. */
    private ground: Uint32Array,
  ) {
    this.image = new ImageData(width, height)
    this.pixels = new Uint32Array(this.image.data.buffer)
    this.pixels.set(ground)
    this.depth = new Float32Array(width * height).fill(Number.POSITIVE_INFINITY)
    this.box = [width, height, 0, 0]
  }

  /** Take off what was drawn. */
  begin(): void {
    const [left, top, right, bottom] = this.box
    for (let y = top; y < bottom; y++) {
      const [from, to] = [y * this.width + left, y * this.width + right]
      this.pixels.set(this.ground.subarray(from, to), from)
      this.depth.fill(Number.POSITIVE_INFINITY, from, to)
    }
    this.box = [this.width, this.height, 0, 0]
  }

  /** Something was, or will be, drawn between these. */
  touch(left: number, top: number, right: number, bottom: number): void {
    const { box } = this
    box[0] = Math.min(box[0], Math.max(0, left))
    box[1] = Math.min(box[1], Math.max(0, top))
    box[2] = Math.max(box[2], Math.min(this.width, right))
    box[3] = Math.max(box[3], Math.min(this.height, bottom))
  }

  /** Triangles of vertices `(x, y, depth)`, those that turn their `side` to whoever looks: 1 for
   * the front, which is counter-clockwise, -1 for the back, 0 for both. */
  triangles(
    points: Float32Array,
    index: ArrayLike<number>,
    count: number,
    side: -1 | 0 | 1,
    view: Viewport,
    paint: Paint,
  ): void {
    const { width, height, pixels, depth } = this
    const { colours, opacity, tested, written, offset, hatch, dash } = paint
    const each = colours.length > 3 ? 3 : 0
    const solid = opacity >= 1
    const [edgeLeft, edgeRight] = [view.x, Math.min(view.x + view.width, width)]
    for (let t = 0; t + 2 < count; t += 3) {
      const i = index[t]!
      const j = index[t + 1]!
      const k = index[t + 2]!
      const ax = points[3 * i]!
      const ay = points[3 * i + 1]!
      const bx = points[3 * j]!
      const by = points[3 * j + 1]!
      const cx = points[3 * k]!
      const cy = points[3 * k + 1]!
      // Twice its area; above zero where its corners go round against the clock on the screen.
      const area = (cx - ax) * (by - ay) - (bx - ax) * (cy - ay)
      if (area === 0 || area * side < 0) continue
      // Pixels whose middles may lie in it.
      const left = Math.max(edgeLeft, Math.ceil(Math.min(ax, bx, cx) - 0.5))
      const right = Math.min(edgeRight, Math.floor(Math.max(ax, bx, cx) - 0.5) + 1)
      const top = Math.max(0, Math.ceil(Math.min(ay, by, cy) - 0.5))
      const bottom = Math.min(height, Math.floor(Math.max(ay, by, cy) - 0.5) + 1)
      if (left >= right || top >= bottom) continue
      this.touch(left, top, right, bottom)
      const per = 1 / area
      // Shares of the second and the third corner: by how much they grow to the right and down.
      const bRight = -(cy - ay) * per
      const bDown = (cx - ax) * per
      const cRight = (by - ay) * per
      const cDown = -(bx - ax) * per
      const az = points[3 * i + 2]!
      const bz = points[3 * j + 2]! - az
      const cz = points[3 * k + 2]! - az
      const zRight = bz * bRight + cz * cRight
      const zDown = bz * bDown + cz * cDown
      const back = offset
        ? offset[0] * Math.max(Math.abs(zRight), Math.abs(zDown)) + offset[1] * STEP
        : 0
      const red = colours[each * i]!
      const green = colours[each * i + 1]!
      const blue = colours[each * i + 2]!
      // How far the other corners' colours are from the first one's.
      const rb = each ? colours[3 * j]! - red : 0
      const gb = each ? colours[3 * j + 1]! - green : 0
      const bb = each ? colours[3 * j + 2]! - blue : 0
      const rc = each ? colours[3 * k]! - red : 0
      const gc = each ? colours[3 * k + 1]! - green : 0
      const bc = each ? colours[3 * k + 2]! - blue : 0
      const hatched = hatch ? hatch.on[i]! > 0.5 : false
      const dashed = dash ? dash[i]! > 0.5 : false
      for (let y = top; y < bottom; y++) {
        const dy = y + 0.5 - ay
        // From the bottom, as a graphics card counts.
        const up = height - 1 - y
        const row = y * width
        for (let x = left; x < right; x++) {
          const dx = x + 0.5 - ax
          const b = dx * bRight + dy * bDown
          const c = dx * cRight + dy * cDown
          if (b < 0 || c < 0 || b + c > 1) continue
          const z = az + b * bz + c * cz + back
          const at = row + x
          if (tested && z >= depth[at]!) continue
          if (dashed && (((x - up) % DASH.every) + DASH.every) % DASH.every < DASH.gap) continue
          let r = red + b * rb + c * rc
          let g = green + b * gb + c * gc
          let bl = blue + b * bb + c * bc
          if (hatched && (x + up) % HATCH.every === 0) {
            r += HATCH.share * (hatch!.ink[0] - r)
            g += HATCH.share * (hatch!.ink[1] - g)
            bl += HATCH.share * (hatch!.ink[2] - bl)
          }
          pixels[at] = solid
            ? OPAQUE | (bl << 16) | (g << 8) | r
            : over(pixels[at]!, r, g, bl, opacity)
          if (written) depth[at] = z
        }
      }
    }
  }

  /** A line a pixel thick between two points `(x, y, depth)`. */
  line(
    [ax, ay, az]: readonly [number, number, number],
    [bx, by, bz]: readonly [number, number, number],
    view: Viewport,
    paint: Paint,
  ): void {
    const { width, height, pixels, depth } = this
    const { colours, opacity, tested, written } = paint
    const steps = Math.max(1, Math.ceil(Math.max(Math.abs(bx - ax), Math.abs(by - ay))))
    // As much of it as lies in the view.
    const [left, right] = [view.x, Math.min(view.x + view.width, width)]
    let [first, last] = [0, 1]
    for (const [from, way, low, high] of [
      [ax, bx - ax, left, right],
      [ay, by - ay, 0, height],
    ] as const) {
      if (way === 0) {
        if (from < low || from >= high) return
        continue
      }
      const [p, q] = [(low - from) / way, (high - from) / way]
      first = Math.max(first, Math.min(p, q))
      last = Math.min(last, Math.max(p, q))
    }
    if (first >= last) return
    const [across, down] = [(bx - ax) / steps, (by - ay) / steps]
    const end = Math.ceil(last * steps)
    for (let n = Math.floor(first * steps); n <= end; n++) {
      const x = Math.floor(ax + n * across)
      const y = Math.floor(ay + n * down)
      if (x < left || x >= right || y < 0 || y >= height) continue
      const at = y * width + x
      const z = az + (n / steps) * (bz - az)
      if (tested && z > depth[at]!) continue
      pixels[at] = over(pixels[at]!, colours[0]!, colours[1]!, colours[2]!, opacity)
      if (written) depth[at] = z
    }
    const [x0, x1] = [ax + first * (bx - ax), ax + last * (bx - ax)]
    const [y0, y1] = [ay + first * (by - ay), ay + last * (by - ay)]
    this.touch(
      Math.floor(Math.min(x0, x1)),
      Math.floor(Math.min(y0, y1)),
      Math.floor(Math.max(x0, x1)) + 1,
      Math.floor(Math.max(y0, y1)) + 1,
    )
  }

  /** A square of so many pixels about a point. */
  dot([x, y, z]: readonly [number, number, number], size: number, view: Viewport, paint: Paint) {
    const [left, top] = [Math.round(x - size / 2), Math.round(y - size / 2)]
    const [right, bottom] = [left + Math.round(size), top + Math.round(size)]
    const corners = new Float32Array([
      left,
      top,
      z,
      right,
      top,
      z,
      right,
      bottom,
      z,
      left,
      bottom,
      z,
    ])
    this.triangles(corners, [0, 2, 1, 0, 3, 2], 6, 0, view, { ...paint, offset: null })
  }
}

/** A colour laid over a pixel, which may let through what stands behind the picture. */
function over(below: number, r: number, g: number, b: number, opacity: number): number {
  if (opacity >= 1) return OPAQUE | (b << 16) | (g << 8) | r
  const under = ((below >>> 24) / 255) * (1 - opacity)
  const all = opacity + under
  if (all <= 0) return 0
  const mix = (own: number, theirs: number) => Math.round((own * opacity + theirs * under) / all)
  const red = mix(r, below & 255)
  const green = mix(g, (below >>> 8) & 255)
  const blue = mix(b, (below >>> 16) & 255)
  return (Math.round(all * 255) << 24) | (blue << 16) | (green << 8) | red
}
