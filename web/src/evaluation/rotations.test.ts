import { describe, expect, it } from 'vitest'
import {
  about,
  anglesNear,
  inverse,
  multiply,
  type Quat,
  rotate,
  turned,
  turnOf,
} from './rotations'
import vectors from './vectors.json'

const ORDERS = ['XYZ', 'XZY', 'YXZ', 'YZX', 'ZXY', 'ZYX']

/** Intrinsic, as listed: the definition that the core shares with SciPy's upper-case orders. */
const composed = (order: string, angles: readonly number[]): Quat =>
  [...order].reduce<Quat>(
    (q, axis, k) => multiply(q, about(axis.toLowerCase() as 'x', angles[k]!)),
    [0, 0, 0, 1],
  )

const gap = (a: Quat, b: Quat) => Math.hypot(...turnOf(multiply(inverse(a), b)))

describe('angles of a rotation', () => {
  it('come back from it in every order, as the solution nearest to those that were', () => {
    let seed = 7
    const next = () => {
      seed = (seed * 1103515245 + 12345) % 2147483648
      return seed / 2147483648
    }
    for (const order of ORDERS)
      for (let n = 0; n < 60; n++) {
        const angles = [0, 1, 2].map(() => 900 * next() - 450)
        const near = angles.map((v) => v + 20 * next() - 10)
        const q = composed(order, angles)
        const found = anglesNear(q, order, near)
        expect(gap(q, composed(order, found))).toBeLessThan(1e-5)
        // Away from the lock the very angles come back.
        if (Math.abs(Math.cos((angles[1]! * Math.PI) / 180)) > 0.3)
          found.forEach((v, k) => {
            expect(Math.abs(v - angles[k]!)).toBeLessThan(1e-4)
          })
      }
  })

  it('at the lock the first one stays', () => {
    for (const order of ORDERS) {
      const q = composed(order, [30, 90, 20])
      const found = anglesNear(q, order, [41, 88, 0])
      expect(found[0]).toBe(41)
      expect(gap(q, composed(order, found))).toBeLessThan(1e-3)
    }
  })
})

describe('turns', () => {
  it('have a rotation vector, and turn vectors', () => {
    const q = turned([0, 0, 1], 90)
    expect(turnOf(q)[2]).toBeCloseTo(90)
    const [x, y] = rotate(q, [1, 0, 0])
    expect([x, y].map((v) => Number(v.toFixed(9)))).toEqual([0, 1])
    expect(turnOf([0, 0, 0, -1])).toEqual([0, 0, 0])
  })
})

describe('angles nearest to others', () => {
  vectors.angles.forEach(({ q, order, near, angles }, n) => {
    it(`are the core's, ${order} ${n}`, () => {
      const found = anglesNear(q as Quat, order, near)
      for (let k = 0; k < 3; k++) expect(Math.abs(found[k]! - angles[k]!)).toBeLessThan(1e-6)
    })
  })
})
