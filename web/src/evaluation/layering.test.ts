import { describe, expect, it } from 'vitest'
import type { Curve } from './curves'
import { beneath, joinedBy, layered, ledInFigure, placed, unplaced } from './layering'
import vectors from './layering.vectors.json'
import type { Clip } from './model'
import type { JointPose } from './rotations'

interface Made {
  layers: object[]
  placement: object
  curves: Record<string, number[]>
  joints: Record<string, Record<'below' | 'moved' | 'rotation' | 'translation', number[][]>>
  channels: string[][]
  offsets: number[][]
  parents: number[]
  up: string
  adds: string[]
}
const clips = vectors.clips as unknown as Made[]

const clipOf = (made: Made) =>
  ({
    layers: made.layers,
    placement: made.placement,
    reading: { up_axis: made.up, root_positions: made.adds[0], joint_positions: made.adds[1] },
    joints: made.channels.map((channels, k) => ({
      parent: made.parents[k],
      channels,
      offset: made.offsets[k],
    })),
  }) as unknown as Clip
const curvesOf = (made: Made) =>
  new Map<string, Curve>(
    Object.entries(made.curves).map(([key, values]) => [
      key,
      { kind: 'sampled', values: Float64Array.from(values) },
    ]),
  )
const first = clips[0]!
const [clip, curves] = [clipOf(first), curvesOf(first)]
const at = (all: number[][], frame: number) => all[frame]! as JointPose['rotation']

describe('layers are laid and the clip is placed as the core lays them', () => {
  it.each([
    ['few joints', 0],
    ['a laden figure in centimetres, Y up', 1],
    ['a laden figure in metres, Z up', 2],
  ])('on every frame of every joint, weighed, masked, muted and in order: %s', (_, which) => {
    const made = clips[which]!
    const [clip, curves] = [clipOf(made), curvesOf(made)]
    let turnedOnes = 0
    for (const [joint, { below, moved, rotation, translation }] of Object.entries(made.joints))
      rotation.forEach((wanted, frame) => {
        const pose: JointPose = {
          rotation: at(below, frame),
          translation: moved[frame] as JointPose['translation'],
        }
        const laid = layered(clip, Number(joint), pose, (key) => curves.get(key), frame)!
        const got = placed(clip, Number(joint), laid)
        const back = unplaced(clip, Number(joint), got)
        for (const part of ['rotation', 'translation'] as const)
          back[part].forEach((v, k) => {
            expect(Math.abs(v - laid[part][k]!)).toBeLessThan(1e-9)
          })
        const off = (sign: number) =>
          Math.max(...wanted.map((v, k) => Math.abs(v - sign * got.rotation[k]!)))
        expect(Math.min(off(1), off(-1))).toBeLessThan(1e-9)
        translation[frame]!.forEach((v, k) => {
          expect(Math.abs(v - got.translation[k]!)).toBeLessThan(1e-9)
        })
        turnedOnes += Number(Math.min(off(1), off(-1)) < 1e-9)
      })
    expect(turnedOnes).toBeGreaterThan(30)
  })

  it('in the figure’s space, from how all stands and what the layer did', () => {
    const { channels, before, after, over } = vectors.figure
    const above = { ...first.layers[0], id: 8, channels: over.channels, mask: {} } as never
    const layer = { ...first.layers[0], id: 7, space: 'figure', channels, mask: {} } as never
    const of = (all: object) => (key: string) => {
      const values = (all as Record<string, number[]>)[key]
      return values && ({ kind: 'sampled', values: Float64Array.from(values) } as Curve)
    }
    before.rotation.forEach((stood, frame) => {
      const local = (j: number): JointPose => ({
        rotation: stood[j] as JointPose['rotation'],
        translation: [0, 0, 0],
      })
      const was = of(before.curves)
      const laid = of({ ...over.curves, ...after.curves })
      const led = ledInFigure(clip, layer, [above], local, was, laid, frame)!
      expect([...led.keys()]).toEqual([0, 2])
      for (const [j, { rotation }] of led) {
        const wanted = after.rotation[frame]![j]!
        const off = (sign: number) =>
          Math.max(...wanted.map((v, k) => Math.abs(v - sign * rotation[k]!)))
        expect(Math.min(off(1), off(-1))).toBeLessThan(1e-9)
      }
      expect(ledInFigure(clip, layer, [above], local, was, () => undefined, frame)).toBeNull()
    })
  })

  it('finds what lies beneath layers for a joint to be seen as wanted', () => {
    const only = { ...clip, layers: clip.layers.filter((x) => x.kind === 'additive') }
    const wanted: JointPose['rotation'] = [0.5, -0.5, 0.5, 0.5]
    const { below, moved } = first.joints[1]!
    below.forEach((_, frame) => {
      const translation = moved[frame] as JointPose['translation']
      const seen = (rotation: JointPose['rotation']) =>
        layered(only, 1, { rotation, translation }, (key) => curves.get(key), frame)!.rotation
      const own = at(below, frame)
      const found = seen(beneath(own, seen(own), wanted, false))
      const off = (sign: number) =>
        Math.max(...wanted.map((v, k) => Math.abs(v - sign * found[k]!)))
      expect(Math.min(off(1), off(-1))).toBeLessThan(1e-9)
    })
  })

  it('waits for the server where it cannot: another kind, or a curve that is not here', () => {
    const pose: JointPose = { rotation: [0, 0, 0, 1], translation: [0, 0, 0] }
    expect(layered(clip, 1, pose, () => undefined, 0)).toBeNull()
    const other = { layers: first.layers.map((x) => ({ ...x, space: 'figure' })) }
    expect(layered(other as unknown as Clip, 1, pose, (key) => curves.get(key), 0)).toBeNull()
  })

  it('knows whom a weight reaches', () => {
    expect(joinedBy(clip, ['layer:0/-1/w']).sort()).toEqual([0, 1])
    expect(joinedBy(clip, ['base/2/rx', 'layer:1/1/rx'])).toEqual([1])
  })
})
