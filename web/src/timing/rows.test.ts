import { describe, expect, it } from 'vitest'
import { type Curve, type KeyedCurve, keyed } from '../evaluation/curves'
import type { Clip } from '../evaluation/model'
import { DOUBLED, IS_MUTED, OFF_FRAME, RIDES, rowsOf, SELECTED, unionOf, unionOfAll } from './rows'

function curve(times: number[], flags: number[] = []): KeyedCurve {
  const zeros = () => new Float64Array(times.length)
  return keyed({
    id: BigInt64Array.from(times.map((_, k) => BigInt(k))),
    time: Float64Array.from(times),
    value: zeros(),
    slope_in: zeros(),
    slope_out: zeros(),
    length_in: zeros().fill(1 / 3),
    length_out: zeros().fill(1 / 3),
    handle: new Uint8Array(times.length),
    segment: new Uint8Array(times.length),
    flags: Uint8Array.from(times, (_, k) => flags[k] ?? 0),
  })
}

const clip = {
  joints: [
    { name: 'Hips', channels: ['tx', 'rx'] },
    { name: 'Arm', channels: ['rx'] },
    { name: 'Prop', channels: ['rx'] },
    { name: 'Tip', channels: [] },
  ],
  props: [],
  layers: [],
} as unknown as Clip
const body = { groups: { torso: [0], 'left arm': [1] } } as never

describe('rows', () => {
  it('fold by part, joint and channel, and leave no joint with channels out', () => {
    const closed = rowsOf(clip, body, new Set(), null)
    expect(closed.map((r) => r.label)).toEqual(['Whole body', 'torso', 'left arm', 'other joints'])
    const open = rowsOf(clip, body, new Set(['part torso', 'joint 0']), null)
    expect(open.map((r) => r.label)).toEqual([
      'Whole body',
      'torso',
      'Hips',
      'move X',
      'turn X',
      'left arm',
      'other joints',
    ])
    expect(rowsOf(clip, body, new Set(), new Set([1])).map((r) => r.id)).toEqual([
      'body',
      'part left arm',
    ])
  })

  it('have props under a heading of their own, below the body', () => {
    const with_ = { ...clip, props: [{ id: 4, name: 'crate' }] } as unknown as Clip
    const open = rowsOf(with_, body, new Set(['part props', 'prop 4']), null).slice(4)
    expect(open.map((r) => r.label)).toEqual([
      'props',
      'crate',
      ...['move X', 'move Y', 'move Z', 'turn Z', 'turn X', 'turn Y'],
    ])
    expect(open[2]!.channels).toEqual(['prop/4/tx'])
  })
})

describe('rows of layers', () => {
  it('stand on top, the topmost first, with its weight and its joints', () => {
    const layers = [
      { id: 0, name: 'one', channels: { 1: ['rx', 'ry'] } },
      { id: 3, name: 'two', channels: {} },
    ]
    const with_ = { ...clip, layers } as unknown as Clip
    const open = rowsOf(with_, body, new Set(['part layers', 'layer 0']), null)
    expect(open.slice(0, 6).map((r) => r.label)).toEqual([
      'layers',
      'two',
      'one',
      'weight',
      'Arm',
      'Whole body',
    ])
    expect(open[0]!.channels).toEqual([
      'layer:0/-1/w',
      'layer:0/1/rx',
      'layer:0/1/ry',
      'layer:3/-1/w',
    ])
    expect(open[4]!.channels).toEqual(['layer:0/1/rx', 'layer:0/1/ry'])
  })
})

describe('a row above', () => {
  const curves = new Map<string, Curve>()
  const random = (seed: number) => () => {
    seed = (seed * 1103515245 + 12345) % 2147483648
    return seed / 2147483648
  }

  it('is the union of the rows below it, whatever they hold', () => {
    for (let seed = 1; seed < 40; seed++) {
      const next = random(seed)
      curves.clear()
      for (const key of ['base/0/tx', 'base/0/rx', 'base/1/rx', 'base/2/rx']) {
        const times = new Set<number>()
        const count = 1 + Math.floor(12 * next())
        while (times.size < count) times.add(Math.floor(40 * next()) + (next() < 0.1 ? 0.3 : 0))
        curves.set(key, curve([...times].sort((a, b) => a - b)))
      }
      const rows = rowsOf(clip, body, new Set(['part torso', 'joint 0', 'part left arm']), null)
      const times = (id: string) => {
        const { channels } = rows.find((r) => r.id === id)!
        return [...unionOf(channels, (k) => curves.get(k), new Map()).time]
      }
      const union = (ids: string[]) => [...new Set(ids.flatMap(times))].sort((a, b) => a - b)
      const parts = rows.filter((r) => r.kind === 'part').map((r) => r.id)
      expect(times('body')).toEqual(union(parts))
      expect(times('part torso')).toEqual(union(['base/0/tx', 'base/0/rx']))
      expect(times('joint 0')).toEqual(times('part torso'))
      // Put together from its parts it is the same to the last mark.
      const of = (id: string) =>
        unionOf(rows.find((r) => r.id === id)!.channels, (k) => curves.get(k), new Map())
      expect(unionOfAll(parts.map(of))).toEqual(of('body'))
    }
  })

  it('says what is hidden below it: keys off the frame and doubled ones', () => {
    curves.clear()
    curves.set('base/0/rx', curve([0, 10, 10.2, 20, 30.5], [0, 0, 0, 2, 2]))
    curves.set('base/1/rx', curve([0, 10, 20, 25], [1, 0, 2, 0]))
    const row = ['base/0/rx', 'base/1/rx']
    const picked = new Map([['base/1/rx', new Set([3])]])
    const { time, count, marks, keyed: channels } = unionOf(row, (k) => curves.get(k), picked)
    expect([...time]).toEqual([0, 10, 10.2, 20, 25, 30.5])
    expect([...count]).toEqual([2, 2, 1, 2, 1, 1])
    expect(channels).toBe(2)
    expect(marks[0]! & IS_MUTED).toBe(0) // one of two is
    expect(marks[1]! & DOUBLED).toBeTruthy()
    expect(marks[2]! & OFF_FRAME).toBeTruthy()
    expect(marks[3]! & RIDES).toBeTruthy()
    expect(marks[4]! & SELECTED).toBeTruthy()
    expect(marks[5]! & OFF_FRAME).toBe(0) // it rides: it is meant to lie between
  })
})
