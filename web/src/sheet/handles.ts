/** Where handles end, and the grips of the scale box. */
import type { KeyedCurve } from '../evaluation/curves'
import type { Grip, HandleEnd, Spot } from './surface'

const SHORTEST = 12 // pixels

/** Ends of the handles of some keys, at their true lengths: a share of the segment's span. */
export function handleEnds(curve: KeyedCurve, ids: ReadonlySet<number>): HandleEnd[] {
  const out: HandleEnd[] = []
  const last = curve.time.length - 1
  for (let k = 0; k <= last; k++) {
    if (!ids.has(Number(curve.id[k]))) continue
    const [t, v] = [curve.time[k]!, curve.value[k]!]
    if (k > 0 && curve.segment[k - 1] === 0) {
      const reach = curve.length_in[k]! * (t - curve.time[k - 1]!)
      out.push({ index: k, side: 'in', time: t - reach, value: v - reach * curve.slope_in[k]! })
    }
    if (k < last && curve.segment[k] === 0) {
      const reach = curve.length_out[k]! * (curve.time[k + 1]! - t)
      out.push({ index: k, side: 'out', time: t + reach, value: v + reach * curve.slope_out[k]! })
    }
  }
  return out
}

/** Where a handle is drawn: at its end, or as far from its key that both can be grabbed. */
export function spotOf(
  side: 'in' | 'out',
  key: readonly [number, number],
  end: readonly [number, number],
): Spot {
  const [dx, dy] = [end[0] - key[0], end[1] - key[1]]
  const length = Math.hypot(dx, dy)
  if (length >= SHORTEST) return { x: end[0], y: end[1], beyond: [0, 0] }
  const [ux, uy] = length > 1e-6 ? [dx / length, dy / length] : [side === 'out' ? 1 : -1, 0]
  const [x, y] = [key[0] + SHORTEST * ux, key[1] + SHORTEST * uy]
  return { x, y, beyond: [x - end[0], y - end[1]] }
}

export const GRIPS: readonly Grip[] = ([-1, 0, 1] as const).flatMap((time) =>
  ([-1, 0, 1] as const).flatMap((value) => (time || value ? [{ time, value }] : [])),
)
