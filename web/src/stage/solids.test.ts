import { describe, expect, it } from 'vitest'
import type { Clip } from '../evaluation/model'
import { bonesOf } from './bones'
import { solidsOf } from './solids'

type Given = [name: string, parent: number, offset: number[], role: string]

const FIGURE: Given[] = [
  ['hips', -1, [0, 95, 0], 'hips'],
  ['spine', 0, [0, 12, 0], 'spine'],
  ['chest', 1, [0, 22, 0], 'spine'],
  ['neck', 2, [0, 22, 0], 'neck'],
  ['head', 3, [0, 10, 0], 'head'],
  ...(['left', 'right'] as const).flatMap((side, k): Given[] => {
    const s = k ? -1 : 1
    const at = 5 + 7 * k
    return [
      [`${side} collar`, 2, [3 * s, 18, 0], `${side} clavicle`],
      [`${side} arm`, at, [15 * s, 0, 0], `${side} upper arm`],
      [`${side} forearm`, at + 1, [28 * s, 0, 0], `${side} forearm`],
      [`${side} hand`, at + 2, [25 * s, 0, 0], `${side} hand`],
      [`${side} thigh`, 0, [9 * s, -4, 0], `${side} thigh`],
      [`${side} shin`, at + 4, [0, -43, 0], `${side} shin`],
      [`${side} foot`, at + 5, [0, -40, 0], `${side} foot`],
    ]
  }),
]

const clipOf = (figure: Given[]): Clip =>
  ({
    joints: figure.map(([name, parent, offset]) => ({
      name,
      parent,
      offset,
      rest: [0, 0, 0, 1],
      channels: [],
    })),
    end_sites: [],
    height: 175,
    reading: { up_axis: 'y', metres_per_unit: 0.01 },
  }) as unknown as Clip

const made = (figure: Given[], known: boolean) => {
  const clip = clipOf(figure)
  const roles = known ? figure.map(([, , , role]) => role) : null
  return solidsOf(clip, bonesOf(clip.joints, []), roles)
}

describe('solids of a skeleton', () => {
  it('are a body: pelvis, ribs, head, mitts, feet with soles, the left side hatched', () => {
    const body = made(FIGURE, true)
    const of = (joint: number) => body.solids.filter((s) => s.joint === joint)
    for (const volume of [0, 2, 4, 8, 15, 11, 18]) expect(of(volume).length).toBeGreaterThan(0)
    expect(body.soles.length).toBe(2)
    const hatchedJoints = new Set(
      body.solids.filter((s) => body.hatch[s.at] === 1).map((s) => FIGURE[s.joint]![0]),
    )
    expect([...hatchedJoints].every((name) => name.startsWith('left'))).toBe(true)
    expect(hatchedJoints.size).toBeGreaterThanOrEqual(5)
  })

  it('have normals that look outwards, and whole numbers of vertices', () => {
    const { position, normal, index, solids } = made(FIGURE, true)
    expect(position.every(Number.isFinite) && normal.every(Number.isFinite)).toBe(true)
    expect(Math.max(...index)).toBe(position.length / 3 - 1)
    for (const { at, count } of solids) {
      const middle = [0, 1, 2].map((k) => {
        let sum = 0
        for (let i = at; i < at + count; i++) sum += position[3 * i + k]!
        return sum / count
      })
      let outwards = 0
      for (let i = at; i < at + count; i++) {
        let along = 0
        for (let k = 0; k < 3; k++)
          along += normal[3 * i + k]! * (position[3 * i + k]! - middle[k]!)
        if (along > 0) outwards += 1
      }
      expect(outwards / count).toBeGreaterThan(0.9)
    }
  })

  it('stand on the floor they stood on: soles lie at the lowest of the figure', () => {
    const { position, soles } = made(FIGURE, true)
    const ankle = 95 - 4 - 43 - 40
    for (const { at, count } of soles) {
      let lowest = Number.POSITIVE_INFINITY
      for (let i = at; i < at + count; i++) lowest = Math.min(lowest, position[3 * i + 1]!)
      expect(ankle + lowest).toBeGreaterThan(-3)
      expect(ankle + lowest).toBeLessThan(6)
    }
  })

  it('are plain limbs where nobody knows what the joints are', () => {
    const crane: Given[] = [
      ['base', -1, [0, 0, 0], 'helper'],
      ['mast', 0, [0, 120, 0], 'helper'],
      ['jib', 1, [60, 10, 0], 'helper'],
    ]
    const body = made(crane, false)
    expect(body.solids.map((s) => [s.joint, s.child])).toEqual([
      [0, 1],
      [1, 2],
    ])
    expect(body.soles).toEqual([])
    // Nor is anything of it left out where its joints are known to be no body's.
    expect(made(crane, true).solids.length).toBe(2)
  })
})
