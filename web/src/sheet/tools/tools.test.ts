// @vitest-environment happy-dom
import { beforeEach, describe, expect, it } from 'vitest'
import { editSelected, showEdits } from '../../actions/edits'
import { type KeyedCurve, keyed } from '../../evaluation/curves'
import { useBench } from '../../view/bench'
import { draft } from '../../view/draft'
import { useSelection } from '../../view/selection'
import { transport } from '../../view/transport'
import { useViewing } from '../../view/viewing'
import { handleEnds, spotOf } from '../handles'
import { nudge, walkChannels, walkKeys } from '../nudges'
import { scaled } from './ScalingKeys'

const KEY = 'base/0/ry'

function curve(): KeyedCurve {
  const third = Float64Array.from([1 / 3, 0.5, 0.2, 1 / 3])
  return keyed({
    id: BigInt64Array.from([0n, 1n, 2n, 3n]),
    time: Float64Array.from([0, 10, 30, 40]),
    value: Float64Array.from([0, 8, -3, 2]),
    slope_in: Float64Array.from([0, 0.4, -0.1, 0]),
    slope_out: Float64Array.from([0, 0.4, 0.3, 0]),
    length_in: third,
    length_out: third.slice(),
    handle: Uint8Array.from([0, 5, 5, 0]),
    segment: new Uint8Array(4),
    flags: Uint8Array.from([0, 0, 4, 0]),
  })
}

function take(shown: KeyedCurve): void {
  useBench.setState({ curves: new Map([[KEY, shown]]) })
  draft.drop()
}

/** Show edits and make what is shown the curve. */
function done(edits: ReturnType<typeof editSelected>): KeyedCurve {
  showEdits(edits)
  const out = draft.curves.get(KEY) as KeyedCurve
  take(out)
  return out
}

beforeEach(() => {
  take(curve())
  transport.fit(100, 60)
  useBench.setState({
    clip: { joints: [{ name: 'Hips', channels: ['rx', 'ry'] }], layers: [] } as never,
    joints: [0],
    channels: [],
  })
  useSelection.setState({ keys: new Map([[KEY, new Set([0, 1, 2, 3])]]), current: null })
  useViewing.setState({ follows: true, step: 0 })
})

describe('the scale box', () => {
  it('scaled by s, then by 1/s, keys and handles are what they were', () => {
    const before = curve()
    for (const s of [0.5, 2, 3.7]) {
      take(curve())
      done(scaled({ time: 2, value: s }, { time: 0, value: 1 }, false))
      const out = done(scaled({ time: 0.5, value: 1 / s }, { time: 0, value: 1 }, false))
      for (const name of ['time', 'value', 'slope_in', 'slope_out', 'length_in'] as const)
        for (let k = 0; k < 4; k++) expect(out[name][k]).toBeCloseTo(before[name][k]!, 9)
    }
  })

  it('times half as far apart make slopes twice as steep', () => {
    const out = done(scaled({ time: 0.5, value: 1 }, { time: 0, value: 0 }, true))
    expect([...out.time]).toEqual([0, 5, 15, 20])
    expect(out.slope_out[1]).toBeCloseTo(0.8)
    expect(out.slope_in[2]).toBeCloseTo(-0.2)
  })
})

describe('moving', () => {
  it('there and back is where it was', () => {
    const move = (by: number) =>
      done(editSelected((c, k) => ({ time: c.time[k]! + by, value: c.value[k]! - 2 * by })))
    move(7)
    const out = move(-7)
    expect([...out.time]).toEqual([...curve().time])
    for (let k = 0; k < 4; k++) expect(out.value[k]).toBeCloseTo(curve().value[k]!, 12)
  })

  it('a key that would pass one that stays stops before it, or goes past where asked', () => {
    useSelection.setState({ keys: new Map([[KEY, new Set([1])]]) })
    const out = done(editSelected(() => ({ time: 35 })))
    expect([...out.time]).toEqual([0, 29, 30, 40])
    take(curve())
    const beyond = done(editSelected(() => ({ time: 35, past: true })))
    expect([...beyond.time]).toEqual([0, 30, 35, 40])
    expect([...beyond.id].map(Number)).toEqual([0, 2, 1, 3])
  })
})

describe('handles', () => {
  it('end where their slope and their share of the segment say', () => {
    const [into, out] = handleEnds(curve(), new Set([1]))
    expect(into).toMatchObject({ side: 'in', time: 5, value: 6 })
    expect(out).toMatchObject({ side: 'out', time: 20, value: 12 })
  })

  it('close to their key are drawn longer, the same way', () => {
    const near = spotOf('out', [100, 50], [103, 46])
    expect([near.x, near.y, ...near.beyond].map((v) => Math.round(v * 10) / 10)).toEqual([
      107.2, 40.4, 4.2, -5.6,
    ])
    expect(spotOf('in', [100, 50], [100, 50])).toMatchObject({ x: 88, y: 50 })
    expect(spotOf('out', [100, 50], [140, 50])).toEqual({ x: 140, y: 50, beyond: [0, 0] })
  })
})

describe('walking without a pointer', () => {
  it('goes from key to key, time along, and to the next channel', () => {
    useSelection.setState({ keys: new Map(), current: KEY })
    walkKeys(1)
    walkKeys(1)
    expect(transport.frame).toBe(10)
    expect([...useSelection.getState().keys.get(KEY)!]).toEqual([1])
    walkKeys(1, true)
    expect(useSelection.getState().keys.get(KEY)?.size).toBe(2)
    walkChannels(1)
    expect(useSelection.getState().current).toBe('base/0/rx')
    expect(useSelection.getState().keys.size).toBe(0)
  })

  it('nudges what is selected, and nothing where nothing is', () => {
    useSelection.setState({ keys: new Map() })
    nudge(1, 0)
    expect(draft.curves.size).toBe(0)
  })
})
