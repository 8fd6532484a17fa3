import { describe, expect, it } from 'vitest'
import { reach, type Vec } from './limb'
import type { Clip } from './model'
import { type Plan, solvedOver } from './planting'
import vectors from './planting.vectors.json'
import type { Poses } from './poses'
import type { Quat } from './rotations'

/** How far apart two rotations are: a quaternion and its negative are one. */
const apart = (a: readonly number[], b: readonly number[]) => {
  const off = (sign: number) => Math.max(...a.map((v, k) => Math.abs(v - sign * b[k]!)))
  return Math.min(off(1), off(-1))
}

describe('limbs are solved as the core solves them', () => {
  vectors.solver.forEach((v, n) => {
    it(`limb ${n}`, () => {
      const [upper, middle] = reach(
        v.turns as [Quat, Quat],
        v.points as [Vec, Vec, Vec],
        v.target as Vec,
        v.hinge as Vec,
      )
      expect(apart(upper, v.upper)).toBeLessThan(1e-6)
      expect(apart(middle, v.middle)).toBeLessThan(1e-6)
    })
  })
})

describe('hips that are dragged', () => {
  const v = vectors.dragged
  const joints = v.offsets.map((offset, k) => ({ offset, parent: v.parents[k]! }))
  const clip = { joints, reading: { up_axis: 'y' } } as unknown as Clip
  const count = v.frames.length
  const poses: Poses = {
    frames: count,
    joints: joints.length,
    rotation: Float64Array.from(v.rotation) as unknown as Float32Array,
    moving: Int32Array.from(v.moving),
    translation: Float64Array.from(v.translation) as unknown as Float32Array,
  }
  const plan: Plan = {
    clip: 1,
    revision: 1,
    carrier: v.carrier,
    lowered: Float32Array.from(v.lowered),
    joints: Int32Array.from(v.joints),
    below: {
      frames: count,
      joints: v.joints.length,
      rotation: Float64Array.from(v.below_rotation) as unknown as Float32Array,
      moving: Int32Array.from(v.below_moving),
      translation: Float64Array.from(v.below_translation) as unknown as Float32Array,
    },
    limbs: v.limbs.map((limb) => ({
      ...limb,
      sole: limb.sole as Vec | null,
      hinge: limb.hinge as Vec,
      shift: Float64Array.from(limb.shift) as unknown as Float32Array,
      turn: Float64Array.from(limb.turn) as unknown as Float32Array,
      share: Float64Array.from(limb.share) as unknown as Float32Array,
      by: Uint8Array.from(limb.by),
      with: Int32Array.from(limb.with),
    })),
  }
  const solved = (k: number) =>
    solvedOver(
      clip,
      poses,
      plan,
      k,
      new Map([[0, { rotation: v.hips_turn[k]!, translation: v.hips[k]! }]]),
    )

  it('what is held is where the core holds it', () => {
    let told = 0
    v.frames.forEach((_, k) => {
      const out = solved(k)
      v.limbs.forEach((limb, n) => {
        if (!v.held[k]![n]) return
        for (const joint of limb.joints) {
          const at = 4 * (k * joints.length + joint)
          expect(apart(out.get(joint)!.rotation, v.solved.slice(at, at + 4))).toBeLessThan(1e-6)
          told++
        }
      })
    })
    expect(told).toBeGreaterThan(15)
  })

  it('without a drag all stands as it stood', () => {
    const at = v.frames.indexOf(5)
    const still = {
      rotation: v.rotation.slice(4 * at * joints.length, 4 * at * joints.length + 4),
      translation: v.below_translation.length
        ? v.below_translation.slice(3 * at, 3 * at + 3)
        : v.translation.slice(3 * at, 3 * at + 3),
    }
    const out = solvedOver(clip, poses, plan, at, new Map([[0, still]]))
    for (const limb of v.limbs)
      for (const joint of limb.joints) {
        const from = 4 * (at * joints.length + joint)
        expect(apart(out.get(joint)!.rotation, v.rotation.slice(from, from + 4))).toBeLessThan(1e-6)
      }
  })
})
