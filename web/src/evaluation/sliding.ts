/** Keys moved in time, shapes kept, as the core's `slide` moves them. */
import { type KeyedCurve, MUTED, only, RIDING } from './curves'
import { freshId, maskOf, merged, settle } from './keys'
import { carried, rides } from './riding'

/** What `slide` does to keys: the core's parameters, all of them. */
export interface Slide {
  by: number
  factor: number
  about: number
  whole_frames: boolean
  copies: boolean
}

/** Where times come to lie. */
function slidTimes(times: Float64Array, inside: Uint8Array, slide: Slide): Float64Array {
  const { by, factor, about, whole_frames } = slide
  const round = whole_frames && (factor !== 1 || by !== Math.round(by))
  const out = times.slice()
  for (let k = 0; k < out.length; k++) {
    if (!inside[k]) continue
    const late = about + (times[k]! - about) * factor + by
    out[k] = round ? Math.floor(late + 0.5) : late
  }
  return out
}

/** The curve with keys moved in time, shapes kept: the core's `slid`. Null where keys would meet
 * or pass others. */
export function slid(curve: KeyedCurve, ids: ReadonlySet<number>, slide: Slide): KeyedCurve | null {
  const inside = maskOf(curve, ids)
  const late = slidTimes(curve.time, inside, slide)
  if (late[0]! < 0 || late.some((t) => t < 0)) return null
  if (slide.copies) return withCopies(curve, inside, late)
  const moved = new Set<number>()
  if (curve.flags.some((flags) => flags & RIDING))
    for (let k = 0; k < late.length; k++)
      if (late[k] !== curve.time[k] && !carriedAlong(curve, inside, k)) moved.add(k)
  const time = carried(curve, late, moved)
  const touched: number[] = []
  for (let k = 0; k < time.length; k++) {
    if (k && time[k - 1]! >= time[k]!) return null
    if (time[k] !== curve.time[k]) touched.push(k)
  }
  // Times and slopes are its own; what does not change it shares with the curve that it is of.
  const out = { ...curve, time }
  out.slope_in = curve.slope_in.slice()
  out.slope_out = curve.slope_out.slice()
  steepen(curve, out)
  settle(out, touched)
  return out
}

/** A riding key both of whose neighbours are moved goes with them. */
function carriedAlong(curve: KeyedCurve, inside: Uint8Array, k: number): boolean {
  if (!rides(curve, k)) return false
  let [a, b] = [k - 1, k + 1]
  while (rides(curve, a)) a--
  while (rides(curve, b)) b++
  return Boolean(inside[a] && inside[b])
}

/** Slopes of keys at other times, so that free handles keep the shape they had; in place. */
function steepen(before: KeyedCurve, out: KeyedCurve): void {
  const { time, flags } = before
  let last = -1
  for (let k = 0; k < time.length; k++) {
    if (flags[k]! & MUTED) continue
    let next = k + 1
    while (next < time.length && flags[next]! & MUTED) next++
    const first = last < 0
    const end = next === time.length
    const left = first ? 1 : (time[k]! - time[last]!) / (out.time[k]! - out.time[last]!)
    const right = end ? 1 : (time[next]! - time[k]!) / (out.time[next]! - out.time[k]!)
    let across = first ? right : left
    if (!first && !end) across = (time[next]! - time[last]!) / (out.time[next]! - out.time[last]!)
    const joined = before.slope_in[k] === before.slope_out[k]
    out.slope_in[k] = before.slope_in[k]! * (joined ? across : left)
    out.slope_out[k] = before.slope_out[k]! * (joined ? across : right)
    last = k
  }
}

/** Copies of keys at their new times, in the place of those that stand there. */
function withCopies(curve: KeyedCurve, inside: Uint8Array, late: Float64Array): KeyedCurve | null {
  const copies = only(curve, (k) => inside[k] === 1)
  copies.time = late.filter((_, k) => inside[k])
  const first = freshId(curve)
  copies.id = copies.id.map((_, n) => BigInt(first + n))
  for (let n = 0; n + 1 < copies.time.length; n++)
    if (copies.time[n]! >= copies.time[n + 1]!) return null
  const kept = only(curve, (k) => copies.time.every((t) => Math.abs(t - curve.time[k]!) >= 1e-9))
  const { curve: out, second } = merged(kept, copies)
  settle(out, second)
  return out
}
