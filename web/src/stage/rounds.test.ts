import { Matrix4, Quaternion, Vector3 } from 'three'
import { describe, expect, it } from 'vitest'
import type { Poses } from '../evaluation/poses'
import { lapOf, times } from './rounds'

/** One joint, Z up in centimetres: it goes 100 along X and turns a quarter about the up axis. */
const joints = [{ parent: -1, offset: [0, 0, 90] }] as unknown as Parameters<typeof lapOf>[0]
const half = Math.SQRT1_2
const poses: Poses = {
  frames: 2,
  joints: 1,
  rotation: new Float32Array([0, 0, 0, 1, 0, 0, half, half]),
  moving: new Int32Array([0]),
  translation: new Float32Array([0, 0, 90, 100, 0, 95]),
}
const space = new Matrix4().compose(
  new Vector3(),
  new Quaternion().setFromAxisAngle(new Vector3(1, 0, 0), -Math.PI / 2),
  new Vector3(0.01, 0.01, 0.01),
)

describe('rounds of a loop', () => {
  it('lead from where it begins to where it ends, along the floor', () => {
    const lap = lapOf(joints, poses, 0, [0, 1], space)
    const start = new Vector3(0, 0.9, 0)
    expect(
      start
        .clone()
        .applyMatrix4(lap)
        .distanceTo(new Vector3(1, 0.9, 0)),
    ).toBeLessThan(1e-6)
    const ahead = new Vector3(1, 0, 0).transformDirection(lap)
    expect(ahead.distanceTo(new Vector3(0, 0, -1))).toBeLessThan(1e-6)
  })

  it('come back after four quarters', () => {
    const lap = lapOf(joints, poses, 0, [0, 1], space)
    const point = new Vector3(0.3, 0.9, 0.2)
    expect(point.clone().applyMatrix4(times(lap, 4)).distanceTo(point)).toBeLessThan(1e-6)
    expect(point.clone().applyMatrix4(times(lap, 0)).distanceTo(point)).toBe(0)
  })
})
