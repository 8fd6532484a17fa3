/** Keys changed by hand in the browser, as the core's `edit` changes them: what is shown while
 * dragging is what will be kept. */
import {
  BROKEN,
  type ChannelKey,
  COLUMNS,
  type ExtendName,
  HANDLES,
  type HandleName,
  idsOf,
  type KeyedCurve,
  MUTED,
  only,
  RIDING,
  SEGMENTS,
  type SegmentName,
  solveTime,
  THIRD,
  unmuted,
  valueAt,
} from './curves'

import { carried, rides } from './riding'

/** One key's new state; what is absent stays. The core's `KeyEdit` but for its channel: id, frame and
 * value (`was`) say which key was seen. */
export interface KeyEdit {
  id: number
  frame: number
  was?: number
  /** Edits of one turn are made together. */
  turn?: number
  /** It may pass its neighbours, which it meets and stops at if not. */
  past?: boolean
  do?: 'set' | 'make' | 'remove'
  time?: number
  value?: number
  handle?: HandleName
  slope_in?: number
  slope_out?: number
  length_in?: number
  length_out?: number
  broken?: boolean
  muted?: boolean
  riding?: boolean
  segment?: SegmentName
  swings?: number
  decay?: number
}

export type Edits = Map<ChannelKey, KeyEdit[]>
export type Ends = { before?: ExtendName; after?: ExtendName }

const [EASED, FLOWING, FLAT, STRAIGHT, FREE] = [0, 1, 2, 3, 5]
const DEFAULTS: Partial<Record<SegmentName, [number, number]>> = {
  spring: [2, 4],
  bounce: [2, 1.4],
}
const SHAPE = ['slope_in', 'slope_out', 'length_in', 'length_out'] as const
export function copied(curve: KeyedCurve): KeyedCurve {
  const out = { ...curve, extend: curve.extend.slice() }
  for (const name of COLUMNS) (out as Record<string, unknown>)[name] = curve[name].slice()
  return out
}

const step = (c: KeyedCurve, k: number) =>
  (c.value[k + 1]! - c.value[k]!) / (c.time[k + 1]! - c.time[k]!)

function easedSlope(c: KeyedCurve, k: number): number {
  if (k === 0 || k === c.time.length - 1) return 0
  const [left, right] = [step(c, k - 1), step(c, k)]
  if (left * right <= 0) return 0
  const before = c.time[k]! - c.time[k - 1]!
  const after = c.time[k + 1]! - c.time[k]!
  const w1 = 2 * after + before
  const w2 = after + 2 * before
  return (w1 + w2) / (w1 / left + w2 / right)
}

function flowingSlope(c: KeyedCurve, k: number): number {
  const last = c.time.length - 1
  if (last === 0) return 0
  if (k === 0) return step(c, 0)
  if (k === last) return step(c, last - 1)
  const before = c.time[k]! - c.time[k - 1]!
  const after = c.time[k + 1]! - c.time[k]!
  return (after * step(c, k - 1) + before * step(c, k)) / (before + after)
}

/** Slopes of keys as their handle kinds ask; in place. Muted keys are nobody's neighbours. */
export function settleAt(curve: KeyedCurve, keys: Iterable<number>): void {
  if (!curve.flags.some((flags) => flags & MUTED)) {
    settleHeard(curve, keys)
    return
  }
  const at: number[] = []
  curve.flags.forEach((flags, k) => {
    if (!(flags & MUTED)) at.push(k)
  })
  const near = new Set<number>()
  for (const k of keys) {
    const right = at.findIndex((own) => own >= k)
    if (at[right] === k) near.add(right)
    else if (k >= 0 && k < curve.time.length) {
      near.add(right < 0 ? at.length - 1 : right)
      near.add(right < 0 ? at.length - 1 : right - 1)
    }
  }
  const inner = only(curve, (k) => !(curve.flags[k]! & MUTED))
  settleHeard(inner, near)
  at.forEach((k, n) => {
    curve.slope_in[k] = inner.slope_in[n]!
    curve.slope_out[k] = inner.slope_out[n]!
  })
}

function settleHeard(curve: KeyedCurve, keys: Iterable<number>): void {
  const last = curve.time.length - 1
  for (const k of keys) {
    if (k < 0 || k > last) continue
    const kind = curve.handle[k]
    if (kind === EASED) curve.slope_in[k] = curve.slope_out[k] = easedSlope(curve, k)
    else if (kind === FLOWING) curve.slope_in[k] = curve.slope_out[k] = flowingSlope(curve, k)
    else if (kind === FLAT) curve.slope_in[k] = curve.slope_out[k] = 0
    else if (kind === STRAIGHT && last > 0) {
      curve.slope_in[k] = step(curve, Math.max(k - 1, 0))
      curve.slope_out[k] = step(curve, Math.min(k, last - 1))
    }
  }
}

/** Slopes of touched keys, and of those beside them: theirs may follow. */
export function settle(curve: KeyedCurve, touched: readonly number[]): void {
  const near = new Uint8Array(curve.time.length)
  for (const k of touched) {
    if (k > 0) near[k - 1] = 1
    near[k] = 1
    if (k + 1 < near.length) near[k + 1] = 1
  }
  const list: number[] = []
  for (let k = 0; k < near.length; k++) if (near[k]) list.push(k)
  settleAt(curve, list)
}

/** A key's index by its id, -1 where it is not there. */
export function indexOf(curve: KeyedCurve, id: number): number {
  return idsOf(curve).indexOf(id)
}

/** An id that no key of the curve has. */
export function freshId(curve: KeyedCurve): number {
  return idsOf(curve).reduce((most, id) => Math.max(most, id), -1) + 1
}

/** The curve with edits made in turn: the core's `edited_curve`. */
export function edited(curve: KeyedCurve, edits: readonly KeyEdit[]): KeyedCurve {
  let out = curve
  let k = 0
  while (k < edits.length) {
    const what = edits[k]!.do ?? 'set'
    const turn = edits[k]!.turn ?? 0
    if (what === 'set') {
      let end = k
      const same = (e: KeyEdit) => (e.do ?? 'set') === 'set' && (e.turn ?? 0) === turn
      while (end < edits.length && same(edits[end]!)) end++
      out = setKeys(out, edits.slice(k, end))
      k = end
    } else {
      out = what === 'make' ? made(out, edits[k]!) : removed(out, edits[k]!)
      k++
    }
  }
  return out
}

/** Frames within which a key counts as the one that was seen, and the share of the curve's range
 * within which its value does. */
const NEAR = 0.5
const ALIKE = 0.1

/** The index of the key an edit means, -1 where it is not there any more: the core's `place`. */
function placeOf(curve: KeyedCurve, edit: KeyEdit): number {
  let nearest = 0
  curve.time.forEach((t, k) => {
    if (Math.abs(t - edit.frame) < Math.abs(curve.time[nearest]! - edit.frame)) nearest = k
  })
  const range = () => {
    let [low, high] = [Number.POSITIVE_INFINITY, Number.NEGATIVE_INFINITY]
    for (const v of curve.value) {
      low = Math.min(low, v)
      high = Math.max(high, v)
    }
    return high - low
  }
  for (const k of [indexOf(curve, edit.id), nearest]) {
    if (k < 0 || Math.abs(curve.time[k]! - edit.frame) > NEAR) continue
    const off = edit.was === undefined ? 0 : Math.abs(curve.value[k]! - edit.was)
    if (off === 0 || off <= ALIKE * range()) return k
  }
  return -1
}

const liveBut = (curve: KeyedCurve, k: number): boolean =>
  curve.flags.some((flags, n) => n !== k && !(flags & MUTED))

function removed(curve: KeyedCurve, edit: KeyEdit): KeyedCurve {
  const k = placeOf(curve, edit)
  // A curve keeps one key that is live.
  if (k < 0 || !liveBut(curve, k)) return curve
  const out = copied(only(curve, (n) => n !== k))
  settleAt(out, [k - 1, k])
  return out
}

function made(curve: KeyedCurve, edit: KeyEdit): KeyedCurve {
  if (indexOf(curve, edit.id) >= 0 || curve.time.includes(edit.frame)) return curve
  const out = inserted(curve, edit.frame, edit.id)
  const { id, frame, do: _do, was: _was, turn: _turn, ...rest } = edit
  return Object.keys(rest).length ? setKeys(out, [{ id, frame, ...rest }]) : out
}

/** A key on the curve, its shape unchanged; springs and repetitions are left to the core. */
export function inserted(curve: KeyedCurve, time: number, id: number): KeyedCurve {
  const open = unmuted(curve)
  if (open !== curve) return withMuted(inserted(open, time, id), curve)
  let at = 0
  while (at < curve.time.length && curve.time[at]! < time) at++
  const value = valueAt(curve, time)
  const out = { ...curve }
  for (const name of COLUMNS) {
    const old = curve[name] as Float64Array
    const grown = new (old.constructor as Float64ArrayConstructor)(old.length + 1)
    grown.set(old.subarray(0, at), 0)
    grown.set(old.subarray(at), at + 1)
    ;(out as Record<string, unknown>)[name] = grown
  }
  out.id[at] = BigInt(id)
  out.time[at] = time
  out.value[at] = value
  out.length_in[at] = out.length_out[at] = THIRD
  const inner = at > 0 && at < curve.time.length
  out.handle[at] = inner ? FREE : FLAT
  if (!inner) return out
  const k = at - 1
  out.segment[at] = curve.segment[k]!
  const span = curve.time[at]! - curve.time[k]!
  if (curve.segment[k] === 1) out.slope_in[at] = out.slope_out[at] = step(curve, k)
  if (curve.segment[k] !== 0) return out
  const [t0, t3, v0, v3] = [curve.time[k]!, curve.time[at]!, curve.value[k]!, curve.value[at]!]
  const [l0, l1] = [curve.length_out[k]!, curve.length_in[at]!]
  const u = solveTime((time - t0) / span, l0, l1)
  const mix = (a: number[], b: number[]) => a.map((x, i) => x + u * (b[i]! - x))
  const p0 = [t0, v0]
  const p1 = [t0 + l0 * span, v0 + l0 * span * curve.slope_out[k]!]
  const p2 = [t3 - l1 * span, v3 - l1 * span * curve.slope_in[at]!]
  const p3 = [t3, v3]
  const [a, b, c] = [mix(p0, p1), mix(p1, p2), mix(p2, p3)]
  const [d, e] = [mix(a, b), mix(b, c)]
  out.slope_in[at] = out.slope_out[at] = e[0]! > d[0]! ? (e[1]! - d[1]!) / (e[0]! - d[0]!) : 0
  out.length_out[k] = (a[0]! - t0) / (time - t0)
  out.length_in[at] = (time - d[0]!) / (time - t0)
  out.length_out[at] = (e[0]! - time) / (t3 - time)
  out.length_in[at + 1] = (t3 - c[0]!) / (t3 - time)
  return out
}

/** Muted keys put back among those that count. */
function withMuted(changed: KeyedCurve, curve: KeyedCurve): KeyedCurve {
  const muted = only(curve, (k) => (curve.flags[k]! & MUTED) !== 0)
  return merged(changed, muted).curve
}

/** The keys of two curves in the order of their times; `second` are those of the other one. */
export function merged(
  one: KeyedCurve,
  other: KeyedCurve,
): { curve: KeyedCurve; second: number[] } {
  const order = [...one.time, ...other.time]
    .map((t, n) => [t, n] as const)
    .sort((a, b) => a[0] - b[0])
  const curve = { ...one }
  for (const name of COLUMNS) {
    const whole = [...(one[name] as Float64Array), ...(other[name] as Float64Array)]
    const kind = one[name].constructor as Float64ArrayConstructor
    ;(curve as Record<string, unknown>)[name] = kind.from(order.map(([, n]) => whole[n]!))
  }
  const second = order.flatMap(([, n], k) => (n >= one.time.length ? [k] : []))
  return { curve, second }
}

/** Frames that a key leaves to a neighbour it is pushed against. */
const GAP = 1

/** Moved keys stop a frame before the key that stays beyond them: the core's `with_room`. */
export function withRoom(
  curve: KeyedCurve,
  time: Float64Array,
  moved: ReadonlySet<number>,
): Float64Array {
  const out = time.slice()
  const stays = (k: number) => !moved.has(k) && !rides(curve, k)
  for (const k of moved) {
    const own = curve.time[k]!
    let between = 0
    let n = k - 1
    for (; n >= 0 && !stays(n); n--) if (moved.has(n)) between++
    if (n >= 0) out[k] = Math.max(out[k]!, Math.min(curve.time[n]! + GAP * (between + 1), own))
    between = 0
    for (n = k + 1; n < out.length && !stays(n); n++) if (moved.has(n)) between++
    if (n < out.length)
      out[k] = Math.min(out[k]!, Math.max(curve.time[n]! - GAP * (between + 1), own))
  }
  return out
}

type Placed = readonly [number, KeyEdit]

/** Keys that go past others, put in the order of their new times: the core's `_passed`. */
function passed(
  curve: KeyedCurve,
  time: Float64Array,
  past: ReadonlySet<number>,
  placed: Placed[],
) {
  const late = time.slice()
  for (const k of [...past].sort((a, b) => a - b)) {
    const back = curve.time[k]! > late[k]! ? GAP : -GAP
    const met = () => late.some((t, n) => n !== k && Math.abs(t - late[k]!) < 1e-9)
    while (met() && late[k] !== curve.time[k]) {
      const ahead = late[k]! + back
      const over = back > 0 ? ahead >= curve.time[k]! : ahead <= curve.time[k]!
      late[k] = over ? curve.time[k]! : ahead
    }
  }
  const order = [...late.keys()].sort((a, b) => late[a]! - late[b]! || a - b)
  const where = new Map(order.map((old, n) => [old, n]))
  const out = { ...curve }
  for (const name of COLUMNS) {
    const old = curve[name] as Float64Array
    const kind = old.constructor as Float64ArrayConstructor
    ;(out as Record<string, unknown>)[name] = kind.from(order.map((n) => old[n]!))
  }
  out.time = Float64Array.from(order, (n) => late[n]!)
  const left = new Set<number>()
  for (const k of past)
    for (const n of [k - 1, k + 1]) if (where.has(n) && !past.has(n)) left.add(where.get(n)!)
  return { curve: out, placed: placed.map(([k, e]): Placed => [where.get(k)!, e]), left }
}

function setKeys(given: KeyedCurve, edits: readonly KeyEdit[]): KeyedCurve {
  let curve = given
  let placed = edits.flatMap((e): Placed[] => {
    const k = placeOf(curve, e)
    return k < 0 ? [] : [[k, e]]
  })
  let moved = new Set<number>()
  const past = new Set<number>()
  let time: Float64Array = curve.time.slice()
  for (const [k, e] of placed)
    if (e.time !== undefined) {
      time[k] = e.time
      if (e.past) past.add(k)
      else moved.add(k)
    }
  time = withRoom(curve, time, moved)
  let left = new Set<number>()
  if (past.size) {
    ;({ curve, placed, left } = passed(curve, time, past, placed))
    time = curve.time.slice()
    moved = new Set()
  }
  for (const [k, e] of placed) if (e.time !== undefined) moved.add(k)
  const out = copied(curve)
  out.time = carried(curve, time, moved)
  for (let again = true; again; ) {
    again = false
    for (let k = 0; k + 1 < out.time.length; k++) {
      if (out.time[k]! < out.time[k + 1]!) continue
      for (const n of [k, k + 1])
        if (moved.delete(n)) {
          out.time[n] = curve.time[n]!
          placed = placed.filter(([p]) => p !== n)
          again = true
        }
    }
    if (again) out.time = carried(curve, out.time, moved)
  }
  const touched = new Set([...placed.map(([k]) => k), ...left])
  out.time.forEach((t, k) => {
    if (t !== curve.time[k]) touched.add(k)
  })
  for (const [k, e] of placed) setColumns(out, k, e)
  if (out.flags.every((flags) => flags & MUTED))
    out.flags = out.flags.map((flags, k) => (flags & ~MUTED) | (curve.flags[k]! & MUTED))
  settle(out, [...touched])
  return out
}

const masks = new WeakMap<ReadonlySet<number>, { ids: Float64Array; mask: Uint8Array }>()

/** Which of a curve's keys have one of these ids: made once for a selection. */
export function maskOf(curve: KeyedCurve, ids: ReadonlySet<number>): Uint8Array {
  const own = idsOf(curve)
  const found = masks.get(ids)
  if (found?.ids === own) return found.mask
  const mask = Uint8Array.from(own, (id) => Number(ids.has(id)))
  masks.set(ids, { ids: own, mask })
  return mask
}

function setColumns(out: KeyedCurve, k: number, e: KeyEdit): void {
  if (e.handle) {
    out.handle[k] = HANDLES.indexOf(e.handle)
    if (e.handle !== 'free') {
      out.length_in[k] = out.length_out[k] = THIRD
      out.flags[k] = out.flags[k]! & ~BROKEN
      if (e.handle === 'hold') {
        out.segment[k] = 2
        out.slope_in[k] = out.slope_out[k] = 0
      } else if (out.segment[k] === 2) out.segment[k] = 0
    }
  } else if (SHAPE.some((name) => e[name] !== undefined)) out.handle[k] = FREE
  for (const name of ['value', ...SHAPE, 'swings', 'decay'] as const)
    if (e[name] !== undefined) out[name][k] = e[name]
  for (const [flag, on] of [
    [BROKEN, e.broken],
    [MUTED, e.muted],
    [RIDING, e.riding],
  ] as const)
    if (on !== undefined) out.flags[k] = (out.flags[k]! & ~flag) | (on ? flag : 0)
  if (e.segment) {
    out.segment[k] = SEGMENTS.indexOf(e.segment)
    const [swings, decay] = DEFAULTS[e.segment] ?? [0, 0]
    if (e.swings === undefined) out.swings[k] = swings
    if (e.decay === undefined) out.decay[k] = decay
  }
}
