import { describe, expect, test } from 'vitest'
import { fitOf } from './fit'
import { emptyWorld } from './poses'

/** Points scattered by a fixed rule. */
function scattered(joints: number) {
  const world = emptyWorld(joints)
  world.position.forEach((_, k) => {
    world.position[k] = 40 * Math.sin(12.9898 * (k + 1)) + 3
  })
  return world
}

describe('a figure laid on itself', () => {
  test.each([0, 1, 2])('is turned and moved back, with axis %i up', (up) => {
    const b = scattered(9)
    const a = emptyWorld(9)
    const [x, z] = [(up + 1) % 3, (up + 2) % 3]
    const [cos, sin] = [Math.cos(1.1), Math.sin(1.1)]
    for (let j = 0; j < 9; j++) {
      const [p, q] = [b.position[3 * j + x]!, b.position[3 * j + z]!]
      a.position[3 * j + x] = cos * p - sin * q + 70
      a.position[3 * j + z] = sin * p + cos * q - 20
      a.position[3 * j + up] = b.position[3 * j + up]!
    }
    const { turn, by } = fitOf(a, b, [0, 2, 3, 8], up)
    expect(turn).toBeCloseTo(1.1, 9)
    expect([by[x], by[z], by[up]].map((v) => Math.round(v! * 1e6) / 1e6)).toEqual([70, -20, 0])
  })
})
