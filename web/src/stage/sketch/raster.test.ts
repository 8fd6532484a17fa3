import { beforeAll, describe, expect, it } from 'vitest'
import { type Paint, Raster } from './raster'

const [WIDTH, HEIGHT] = [40, 30]
const WHOLE = { x: 0, width: WIDTH }
const INK: Paint = { colours: Uint8Array.of(10, 20, 30), opacity: 1, tested: true, written: true }
const PAPER: Paint = { ...INK, colours: Uint8Array.of(200, 210, 220) }

beforeAll(() => {
  globalThis.ImageData ??= class {
    data: Uint8ClampedArray
    constructor(width: number, height: number) {
      this.data = new Uint8ClampedArray(4 * width * height)
    }
  } as unknown as typeof ImageData
})

const empty = () => new Raster(WIDTH, HEIGHT, new Uint32Array(WIDTH * HEIGHT))

/** Red, green, blue and how firm a pixel is. */
const pixel = (raster: Raster, x: number, y: number): number[] => [
  ...raster.image.data.slice(4 * (y * WIDTH + x), 4 * (y * WIDTH + x) + 4),
]

/** Counter-clockwise on the screen, and so seen from the front. */
const triangle = (depth: number) => new Float32Array([5, 25, depth, 35, 25, depth, 20, 4, depth])

describe('triangles', () => {
  it('cover the pixels whose middles lie in them', () => {
    const raster = empty()
    raster.triangles(triangle(0), [0, 1, 2], 3, 1, WHOLE, INK)
    const side = (ax: number, ay: number, bx: number, by: number, x: number, y: number) =>
      (bx - ax) * (y - ay) - (by - ay) * (x - ax)
    let inside = 0
    for (let y = 0; y < HEIGHT; y++)
      for (let x = 0; x < WIDTH; x++) {
        const [px, py] = [x + 0.5, y + 0.5]
        const sides = [
          side(5, 25, 35, 25, px, py),
          side(35, 25, 20, 4, px, py),
          side(20, 4, 5, 25, px, py),
        ]
        if (sides.some((s) => Math.abs(s) < 1e-9)) continue
        const within = sides.every((s) => s < 0)
        inside += Number(within)
        expect(pixel(raster, x, y)[3], `${x}, ${y}`).toBe(within ? 255 : 0)
      }
    expect(inside).toBeGreaterThan(250)
    expect(raster.box).toEqual([5, 4, 35, 25])
  })

  it('show their front, their back or both', () => {
    for (const [side, front, back] of [
      [1, 255, 0],
      [-1, 0, 255],
      [0, 255, 255],
    ] as const) {
      const [one, other] = [empty(), empty()]
      one.triangles(triangle(0), [0, 1, 2], 3, side, WHOLE, INK)
      other.triangles(triangle(0), [0, 2, 1], 3, side, WHOLE, INK)
      expect([pixel(one, 20, 20)[3], pixel(other, 20, 20)[3]]).toEqual([front, back])
    }
  })

  it('lie before what is farther, in whichever order they are drawn', () => {
    for (const order of [
      [0.2, 0.6],
      [0.6, 0.2],
    ]) {
      const raster = empty()
      for (const depth of order)
        raster.triangles(triangle(depth), [0, 1, 2], 3, 1, WHOLE, depth === 0.2 ? INK : PAPER)
      expect(pixel(raster, 20, 20)).toEqual([10, 20, 30, 255])
    }
  })

  it('blend colours between their corners, and hatch', () => {
    const raster = empty()
    const colours = Uint8Array.of(0, 0, 0, 240, 240, 240, 120, 120, 120)
    const hatch = { on: [1, 1, 1], ink: [255, 0, 0] as const }
    raster.triangles(triangle(0), [0, 1, 2], 3, 1, WHOLE, { ...INK, colours, hatch })
    // From the left below to the right below: a value for each pixel's share of the way.
    for (const x of [10, 19, 29]) {
      const value = 8 * (x + 0.5 - 5)
      const lined = (x + HEIGHT - 1 - 24) % 5 === 0
      const red = lined ? value + 0.45 * (255 - value) : value
      expect(Math.abs(pixel(raster, x, 24)[0]! - red)).toBeLessThanOrEqual(1)
    }
  })

  it('let through what is behind them', () => {
    const raster = empty()
    raster.triangles(triangle(0.5), [0, 1, 2], 3, 1, WHOLE, PAPER)
    raster.triangles(triangle(0.4), [0, 1, 2], 3, 1, WHOLE, { ...INK, opacity: 0.25 })
    expect(pixel(raster, 20, 20)).toEqual([153, 163, 173, 255])
    const alone = empty()
    alone.triangles(triangle(0), [0, 1, 2], 3, 1, WHOLE, { ...INK, opacity: 0.25 })
    expect(pixel(alone, 20, 20)).toEqual([10, 20, 30, 64])
  })

  it('stay in their view', () => {
    const raster = empty()
    raster.triangles(triangle(0), [0, 1, 2], 3, 1, { x: 20, width: 10 }, INK)
    expect([19, 20, 29, 30].map((x) => pixel(raster, x, 23)[3])).toEqual([0, 255, 255, 0])
  })

  it('are taken off again, down to what stood there', () => {
    const ground = new Uint32Array(WIDTH * HEIGHT).fill(0xff112233)
    const raster = new Raster(WIDTH, HEIGHT, ground)
    raster.triangles(triangle(0), [0, 1, 2], 3, 1, WHOLE, INK)
    expect(pixel(raster, 20, 20)).toEqual([10, 20, 30, 255])
    raster.begin()
    expect(new Uint32Array(raster.image.data.buffer)).toEqual(ground)
    raster.triangles(triangle(0.9), [0, 1, 2], 3, 1, WHOLE, PAPER)
    expect(pixel(raster, 20, 20)).toEqual([200, 210, 220, 255])
  })
})

describe('lines and dots', () => {
  it('go from end to end, behind what is nearer', () => {
    const raster = empty()
    raster.triangles(triangle(0), [0, 1, 2], 3, 1, WHOLE, PAPER)
    raster.line([0.5, 20.5, 0.5], [39.5, 20.5, 0.5], WHOLE, INK)
    expect([0, 39].map((x) => pixel(raster, x, 20)[0])).toEqual([10, 10])
    expect(pixel(raster, 20, 20)[0]).toBe(200)
    raster.line([20.5, -500, 0], [20.5, 900, 0], WHOLE, { ...INK, tested: false })
    for (let y = 0; y < HEIGHT; y++) expect(pixel(raster, 20, y)[0]).toBe(10)
  })

  it('of which nothing is in sight draw nothing', () => {
    const raster = empty()
    raster.line([-9, -5, 0], [-3, 50, 0], WHOLE, INK)
    raster.line([50, 10, 0], [90, 10, 0], WHOLE, INK)
    raster.dot([-20, -20, 0], 5, WHOLE, INK)
    expect(raster.image.data.every((v) => v === 0)).toBe(true)
  })

  it('are squares about a point', () => {
    const raster = empty()
    raster.dot([10.5, 10.5, 0], 3, WHOLE, INK)
    const row = [8, 9, 10, 11, 12].map((x) => pixel(raster, x, 10)[3])
    expect(row).toEqual([0, 255, 255, 255, 0])
  })
})
