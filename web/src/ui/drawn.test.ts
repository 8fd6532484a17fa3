import { describe, expect, it } from 'vitest'
import { tapered } from './drawn'

const numbers = (path: string) => path.match(/-?\d+\.\d+/g)!.map(Number)

describe('a tapered shape', () => {
  it('touches both circles where their outer tangents do', () => {
    // Equal circles one above the other: the sides are straight up and down.
    const [x, y, , , x2, y2] = numbers(tapered(0, 0, 1, 0, 4, 1))
    expect([x, y]).toEqual([-1, 0])
    expect([x2, y2]).toEqual([1, 0])
  })

  it('keeps its tangents at right angles to the radii', () => {
    const path = tapered(0, 0, 2, 5, 0, 1)
    const [ax, ay] = numbers(path) as [number, number]
    const [bx, by] = numbers(path).slice(-2) as [number, number]
    expect(Math.hypot(ax, ay)).toBeCloseTo(2, 2)
    expect(Math.hypot(bx - 5, by)).toBeCloseTo(1, 2)
    expect(ax * (bx - ax) + ay * (by - ay)).toBeCloseTo(0, 2)
  })

  it('is the larger circle where that holds the other', () => {
    expect(numbers(tapered(0, 0, 3, 1, 0, 1))[0]).toBe(-3)
    expect(tapered(1, 2, 0.5, 1, 2, 0.5)).toContain('a0.500 0.500')
  })
})
