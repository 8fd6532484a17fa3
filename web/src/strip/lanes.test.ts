import { expect, test } from 'vitest'
import type { Seam } from '../actions/joining'
import { barsOf } from './lanes'

const seam = (name: string, first: number, at: number, last: number) =>
  ({ name, first, at, last }) as Seam

test('bars of a join overlap where they blend, and lie above and below in turns', () => {
  const bars = barsOf('walk', [seam('haul', 82, 100, 118), seam('climb', 290, 300, 305)], 400)
  expect(bars.map((b) => [b.name, b.first, b.last, b.into, b.out, b.upper])).toEqual([
    ['walk', 0, 118, 0, 36, true],
    ['haul', 82, 305, 36, 15, false],
    ['climb', 290, 399, 15, 0, true],
  ])
})
