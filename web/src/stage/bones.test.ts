import { describe, expect, it } from 'vitest'
import { bonesOf } from './bones'

const joint = (name: string, parent: number, offset: number[]) => ({
  name,
  parent,
  offset,
  rest: [0, 0, 0, 1],
  channels: [],
})

describe('bones', () => {
  it('join parents to children and to end sites, but not twist joints along a limb', () => {
    const joints = [
      joint('hip', -1, [0, 0, 0]),
      joint('thigh', 0, [9, 0, 0]),
      joint('twist', 1, [0, -20, 0]),
      joint('shin', 1, [0, -43, 0]),
      joint('foot', 3, [0, -42, 0]),
      joint('same place', 0, [0, 0, 0]),
    ]
    const ends = [
      { parent: 4, offset: [0, 0, 10] },
      { parent: 2, offset: [0, -5, 0] },
    ]
    const bones = bonesOf(joints, ends)
    expect(bones.map((b) => [b.joint, b.child])).toEqual([
      [0, 1],
      [1, 3],
      [3, 4],
      [4, -1],
    ])
  })
})
