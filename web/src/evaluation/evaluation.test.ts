import { describe, expect, it } from 'vitest'
import { brushed, type Stroke } from './brush'
import {
  axisOf,
  channelKey,
  curvesOf,
  type KeyedCurve,
  keyed,
  onFrames,
  splitKey,
  valueAt,
} from './curves'
import { edited, type KeyEdit } from './keys'
import { emptyWorld, forward, type Poses, withChanged } from './poses'
import { slid } from './sliding'
import vectors from './vectors.json'
import { Warp } from './warp'

function curveOf(columns: Record<string, number[]>): KeyedCurve {
  const floats = ['time', 'value', 'slope_in', 'slope_out', 'length_in', 'length_out', 'decay']
  const entries = Object.entries(columns).map(([name, list]) => {
    if (name === 'id') return [name, BigInt64Array.from(list.map(BigInt))]
    return [name, floats.includes(name) ? Float64Array.from(list) : Uint8Array.from(list)]
  })
  return keyed(Object.fromEntries(entries))
}

describe('curves evaluate as the core evaluates them', () => {
  vectors.curves.forEach((vector, n) => {
    it(`vector ${n}`, () => {
      const curve = curveOf(vector.columns as unknown as Record<string, number[]>)
      vector.frames.forEach((frame, k) => {
        expect(Math.abs(valueAt(curve, frame) - vector.values[k]!)).toBeLessThan(1e-6)
      })
    })
  })

  it('sampled curves are straight between frames and hold outside', () => {
    const curve = { kind: 'sampled', values: Float64Array.from([0, 10, 0]) } as const
    expect([0.25, 1.5, 9, -1].map((t) => valueAt(curve, t))).toEqual([2.5, 5, 0, 0])
    expect(onFrames(curve, 3)).toBe(curve.values)
  })

  it('a single sample is its value anywhere', () => {
    expect(valueAt({ kind: 'sampled', values: Float64Array.from([7]) }, 3)).toBe(7)
  })
})

/** Columns as near as the core's. */
function expectColumns(curve: KeyedCurve, columns: Record<string, number[]>): void {
  const wanted = curveOf(columns)
  for (const [name, column] of Object.entries(wanted)) {
    if (name === 'kind') continue
    const mine = [...(curve[name as 'time'] as Float64Array)].map(Number)
    const theirs = [...(column as Float64Array)].map(Number)
    expect(mine.length, name).toBe(theirs.length)
    mine.forEach((v, k) => {
      expect(Math.abs(v - theirs[k]!), `${name}[${k}]`).toBeLessThan(1e-6)
    })
  }
}

describe('hand work is as the core does it', () => {
  const { hand } = vectors
  const curve = () => curveOf(hand.curve as unknown as Record<string, number[]>)

  hand.edits.forEach((vector, n) => {
    it(`edits ${n}`, () => {
      const out = edited(curve(), vector.edits as KeyEdit[])
      expectColumns(out, vector.columns as unknown as Record<string, number[]>)
    })
  })

  const riding = () => curveOf(hand.riding as unknown as Record<string, number[]>)
  hand.slides.forEach((vector, n) => {
    it(`slides ${n}`, () => {
      const out = slid(riding(), new Set(vector.ids), vector.slide)
      if (vector.columns === null) expect(out).toBeNull()
      else expectColumns(out!, vector.columns as unknown as Record<string, number[]>)
    })
  })

  vectors.warps.forEach((vector, n) => {
    it(`warps ${n}`, () => {
      const pins = vector.pins.map(([from, to]) => ({ from: from!, to: to! }))
      const warp = new Warp(pins, vector.smooth)
      vector.t.forEach((t, k) => {
        expect(Math.abs(warp.to(t) - vector.to[k]!)).toBeLessThan(1e-6)
        expect(Math.abs(warp.back(t) - vector.back[k]!)).toBeLessThan(1e-6)
      })
    })
  })

  const take = { kind: 'sampled', values: Float64Array.from(hand.take) } as const
  hand.strokes.forEach((vector, n) => {
    const stroke = vector.stroke as Stroke
    it(`stroke ${n} on keys`, () => {
      const out = brushed(curve(), stroke, take, null) as KeyedCurve
      expectColumns(out, vector.keyed as unknown as Record<string, number[]>)
    })
    it(`stroke ${n} on samples`, () => {
      const dense = { kind: 'sampled', values: Float64Array.from(hand.dense) } as const
      const out = brushed(dense, stroke, take, null)
      if (out.kind !== 'sampled') throw new Error('samples stay samples')
      const theirs = (vector.dense as { values: number[] }).values
      const worst = Math.max(...theirs.map((v, f) => Math.abs(v - out.values[f]!)))
      // The core's filter cuts its weights at four deviations.
      expect(worst).toBeLessThan(stroke.kind === 'calm' ? 2e-3 : 1e-6)
    })
  })
})

describe('forward kinematics agree with the core', () => {
  const v = vectors.kinematics
  const joints = v.parents.map((parent, j) => ({
    name: String(j),
    parent,
    offset: v.offsets[j]!,
    rest: [0, 0, 0, 1],
    channels: [],
  }))
  const poses: Poses = {
    frames: 2,
    joints: 4,
    rotation: Float32Array.from(v.rotation),
    moving: Int32Array.from([0]),
    translation: Float32Array.from(v.translation),
  }

  it('positions and rotations of both frames', () => {
    for (const frame of [0, 1]) {
      const world = emptyWorld(4)
      forward(joints, poses, frame, world)
      world.position.forEach((p, k) => {
        expect(Math.abs(p - v.world_position[12 * frame + k]!)).toBeLessThan(1e-6)
      })
      world.rotation.forEach((q, k) => {
        expect(Math.abs(q - v.world_rotation[16 * frame + k]!)).toBeLessThan(1e-6)
      })
    }
  })

  it('a message of some joints changes those and no others', () => {
    const arrays = new Map([
      ['joints', { data: Int32Array.from([2]), shape: [1] }],
      ['rotation', { data: Float32Array.from([0, 0, 0, 1, 1, 0, 0, 0]), shape: [2, 1, 4] }],
      ['moving', { data: new Int32Array(0), shape: [0] }],
      ['translation', { data: new Float32Array(0), shape: [2, 0, 3] }],
    ])
    const changed = withChanged(poses, { arrays, about: {} })
    expect([...changed.rotation.slice(8, 12)]).toEqual([0, 0, 0, 1])
    expect([...changed.rotation.slice(24, 28)]).toEqual([1, 0, 0, 0])
    expect(changed.rotation.slice(0, 8)).toEqual(poses.rotation.slice(0, 8))
    expect(poses.rotation[11]).not.toBe(1)
  })
})

describe('channel names', () => {
  it('go to keys and back', () => {
    expect(splitKey(channelKey(12, 'rz'))).toEqual({ owner: 'base', joint: 12, channel: 'rz' })
    expect(axisOf('base/3/ty')).toBe('y')
  })

  it('a message becomes curves of both kinds', () => {
    const arrays = new Map([
      ['base/3/rx/values', { data: Float64Array.from([1, 2]), shape: [2] }],
      ['base/4/ty/time', { data: Float64Array.from([0]), shape: [1] }],
      ['base/4/ty/value', { data: Float64Array.from([5]), shape: [1] }],
    ])
    const curves = curvesOf({ arrays, about: {} })
    expect(curves.get('base/3/rx')?.kind).toBe('sampled')
    expect(curves.get('base/4/ty')?.kind).toBe('keyed')
  })
})
