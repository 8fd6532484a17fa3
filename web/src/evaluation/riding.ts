/** Keys that ride keep their share of the time between their neighbours. */
import { type KeyedCurve, RIDING } from './curves'

/** Keys that ride: the first and the last have but one neighbour and cannot. */
export const rides = (curve: KeyedCurve, k: number): boolean =>
  k > 0 && k < curve.time.length - 1 && (curve.flags[k]! & RIDING) !== 0

/** New times with riding keys where they keep their share: the core's `carried`. */
export function carried(
  curve: KeyedCurve,
  time: Float64Array,
  moved: ReadonlySet<number>,
): Float64Array {
  if (!curve.flags.some((flags) => flags & RIDING)) return time
  const out = time.slice()
  const stays = (k: number) => !rides(curve, k) || moved.has(k)
  let a = 0
  for (let k = 0; k < out.length; k++) {
    if (stays(k)) {
      a = k
      continue
    }
    let b = k + 1
    while (!stays(b)) b++
    const share = (curve.time[k]! - curve.time[a]!) / (curve.time[b]! - curve.time[a]!)
    const still = time[a] === curve.time[a] && time[b] === curve.time[b]
    out[k] = still ? curve.time[k]! : time[a]! + share * (time[b]! - time[a]!)
  }
  return out
}
