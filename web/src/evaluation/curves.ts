/** Curves in the browser: the core's columns, and the same evaluation of cubic segments. */
import type { Message } from '../api/safetensors'

export interface SampledCurve {
  kind: 'sampled'
  values: Float64Array
}

export interface KeyedCurve {
  kind: 'keyed'
  id: BigInt64Array
  time: Float64Array
  value: Float64Array
  slope_in: Float64Array
  slope_out: Float64Array
  length_in: Float64Array
  length_out: Float64Array
  handle: Uint8Array
  segment: Uint8Array
  flags: Uint8Array
  swings: Uint8Array
  decay: Float64Array
  /** How the curve goes on before its first and after its last key. */
  extend: Uint8Array
}

/** The names of the core's kinds, by their numbers. */
export const HANDLES = ['eased', 'flowing', 'flat', 'straight', 'hold', 'free'] as const
export const SEGMENTS = ['curve', 'straight', 'hold', 'spring', 'bounce'] as const
export const EXTENDS = ['hold', 'straight', 'repeat', 'repeat_offset'] as const
export type HandleName = (typeof HANDLES)[number]
export type SegmentName = (typeof SEGMENTS)[number]
export type ExtendName = (typeof EXTENDS)[number]
export const [MUTED, RIDING, BROKEN] = [1, 2, 4] as const

export type Curve = SampledCurve | KeyedCurve

export const COLUMNS = [
  'id',
  'time',
  'value',
  'slope_in',
  'slope_out',
  'length_in',
  'length_out',
  'handle',
  'segment',
  'flags',
  'swings',
  'decay',
] as const

/** The curve with only the keys whose index is kept. */
export function only(curve: KeyedCurve, kept: (k: number) => boolean): KeyedCurve {
  const out = { ...curve }
  for (const name of COLUMNS)
    (out as Record<string, unknown>)[name] = (curve[name] as Float64Array).filter((_, k) => kept(k))
  return out
}

const numbered = new WeakMap<BigInt64Array, Float64Array>()

/** A curve's key ids as numbers, made once a column. */
export function idsOf(curve: KeyedCurve): Float64Array {
  let found = numbered.get(curve.id)
  if (!found) {
    found = Float64Array.from(curve.id, Number)
    numbered.set(curve.id, found)
  }
  return found
}

const withoutMuted = new WeakMap<KeyedCurve, KeyedCurve>()

/** The curve without its muted keys: what is evaluated. */
export function unmuted(curve: KeyedCurve): KeyedCurve {
  let found = withoutMuted.get(curve)
  if (!found) {
    const all = curve.flags.every((flags) => !(flags & MUTED))
    found = all ? curve : only(curve, (k) => !(curve.flags[k]! & MUTED))
    withoutMuted.set(curve, found)
  }
  return found
}

/** `"base/12/rx"`: whose channel it is, a joint's index and a channel. */
export type ChannelKey = string

/** The owner of the clip's own channels. */
export const BASE = 'base'

export const channelKey = (joint: number, channel: string, owner = BASE): ChannelKey =>
  `${owner}/${joint}/${channel}`

export function splitKey(key: ChannelKey): { owner: string; joint: number; channel: string } {
  const [owner, joint, channel] = key.split('/')
  return { owner: owner!, joint: Number(joint), channel: channel! }
}

export const turns = (key: ChannelKey): boolean => splitKey(key).channel[0] === 'r'
/** A channel in words: `turn Y`; a layer's weight by itself. */
export const channelTitle = (channel: string): string =>
  channel === 'w'
    ? 'weight'
    : `${channel[0] === 'r' ? 'turn' : 'move'} ${channel[1]!.toUpperCase()}`

/** The letter a curve carries: its axis, or S for speed and A for acceleration. */
export const axisOf = (key: ChannelKey): 'x' | 'y' | 'z' | 's' | 'a' => key.at(-1) as 'x'

/** Read-outs of a joint in the world, beside its channels. */
export const READOUTS = {
  position: ['px', 'py', 'pz'],
  speed: ['vs'],
  acceleration: ['aa'],
} as const
export type Readout = keyof typeof READOUTS

const UNITS: Record<string, string> = { p: ' cm', v: ' m/s', a: ' m/s²' }
const NAMES: Record<string, string> = { p: 'position', v: 'speed', a: 'acceleration' }

/** The unit of a read-out, undefined for a channel of the clip. */
export const readoutUnit = (key: ChannelKey): string | undefined => UNITS[splitKey(key).channel[0]!]
export const readoutName = (key: ChannelKey): string | undefined => NAMES[splitKey(key).channel[0]!]

const [CURVE, STRAIGHT, HOLD, SPRING, BOUNCE] = [0, 1, 2, 3, 4]
const [ON_STRAIGHT, REPEAT, REPEAT_OFFSET] = [1, 2, 3]
export const THIRD = 1 / 3

/** The parameter at which a segment's normalised time is `x`: the core's `solve_time`. */
export function solveTime(x: number, outLength: number, inLength: number): number {
  if (Math.abs(outLength - THIRD) < 1e-12 && Math.abs(inLength - THIRD) < 1e-12) return x
  const p1 = 3 * outLength
  const p2 = 3 * (1 - inLength)
  const c3 = 1 + p1 - p2
  const c2 = p2 - 2 * p1
  let low = 0
  let high = 1
  let u = x
  for (let i = 0; i < 60; i++) {
    const error = ((c3 * u + c2) * u + p1) * u - x
    if (error > 0) high = u
    else low = u
    if (Math.abs(error) < 1e-15) break
    const slope = (3 * c3 * u + 2 * c2) * u + p1
    let step = slope > 1e-9 ? u - error / slope : low - 1
    if (step <= low || step >= high) step = 0.5 * (low + high)
    if (Math.abs(step - u) < 1e-16) break
    u = step
  }
  return u
}

/** Index of the last key at or before `time`, or -1. */
export function keyAt(times: Float64Array, time: number): number {
  let low = -1
  let high = times.length
  while (high - low > 1) {
    const middle = (low + high) >> 1
    if (times[middle]! <= time) low = middle
    else high = middle
  }
  return low
}

/** Value of a curve at a time in frames. */
export function valueAt(curve: Curve, time: number): number {
  if (curve.kind === 'sampled') {
    const last = curve.values.length - 1
    const t = Math.min(Math.max(time, 0), last)
    const k = Math.min(Math.floor(t), last - 1)
    if (last < 1) return curve.values[0] ?? 0
    const a = curve.values[k]!
    return a + (t - k) * (curve.values[k + 1]! - a)
  }
  return keyedAt(unmuted(curve), time)
}

function keyedAt(curve: KeyedCurve, time: number): number {
  const { time: times, value, extend } = curve
  const last = times.length - 1
  let at = time
  let added = 0
  if (last > 0 && (time < times[0]! || time > times[last]!)) {
    const early = time < times[0]!
    const on = extend[early ? 0 : 1]!
    const end = early ? 0 : last
    if (on === ON_STRAIGHT) return value[end]! + endSlope(curve, early) * (time - times[end]!)
    if (on >= REPEAT) {
      const period = times[last]! - times[0]!
      const turn = Math.floor((time - times[0]!) / period)
      at = Math.min(Math.max(time - turn * period, times[0]!), times[last]!)
      if (on === REPEAT_OFFSET) added = (value[last]! - value[0]!) * turn
    }
  }
  const k = keyAt(times, at)
  if (k < 0) return value[0]! + added
  if (k >= last) return value[last]! + added
  return added + within(curve, k, at)
}

/** The slope with which a curve leaves its keys, before or after them. */
function endSlope(curve: KeyedCurve, early: boolean): number {
  const { time, value, segment } = curve
  const k = early ? 0 : time.length - 2
  if (segment[k] === CURVE) return early ? curve.slope_out[0]! : curve.slope_in.at(-1)!
  if (segment[k] === STRAIGHT) return (value[k + 1]! - value[k]!) / (time[k + 1]! - time[k]!)
  return 0
}

/** How far a damped spring has come at `x`: the core's `sprung`. */
export function sprung(x: number, swings: number, decay: number): number {
  let omega = (swings + 1) * Math.PI
  for (let i = 0; i < 60; i++) omega = (swings + 1) * Math.PI - Math.atan(omega / decay)
  const wave = Math.cos(omega * x) + (decay / omega) * Math.sin(omega * x)
  return 1 - Math.exp(-decay * x) * wave
}

/** How far a bouncing thing has come at `x`: the core's `bounced`. */
export function bounced(x: number, swings: number, decay: number): number {
  const ratio = Math.exp(-decay / 2)
  let whole = 1
  for (let i = 1; i <= swings; i++) whole += 2 * ratio ** i
  const fall = 1 / whole
  if (x < fall) return (x / fall) ** 2
  let begin = fall
  for (let i = 1; i <= swings; i++) {
    const half = fall * ratio ** i
    if (x <= begin + 2 * half) {
      const away = (x - begin - half) / half
      return 1 - ratio ** (2 * i) * (1 - away * away)
    }
    begin += 2 * half
  }
  return 1
}

/** Value in segment `k` at a time between its keys. */
function within(curve: KeyedCurve, k: number, time: number): number {
  const { time: times, value } = curve
  const v0 = value[k]!
  const v1 = value[k + 1]!
  const kind = curve.segment[k]
  if (kind === HOLD) return v0
  const span = times[k + 1]! - times[k]!
  const x = (time - times[k]!) / span
  if (kind === STRAIGHT) return v0 + x * (v1 - v0)
  if (kind === SPRING) return v0 + sprung(x, curve.swings[k]!, curve.decay[k]!) * (v1 - v0)
  if (kind === BOUNCE) return v0 + bounced(x, curve.swings[k]!, curve.decay[k]!) * (v1 - v0)
  const l0 = curve.length_out[k]!
  const l1 = curve.length_in[k + 1]!
  const u = solveTime(x, l0, l1)
  const w = 1 - u
  const b1 = v0 + curve.slope_out[k]! * l0 * span
  const b2 = v1 - curve.slope_in[k + 1]! * l1 * span
  return w * w * w * v0 + 3 * w * w * u * b1 + 3 * w * u * u * b2 + u * u * u * v1
}

/** Values on frames 0 … frames - 1. */
export function onFrames(curve: Curve, frames: number): Float64Array {
  if (curve.kind === 'sampled') return curve.values
  const out = new Float64Array(frames)
  for (let f = 0; f < frames; f++) out[f] = valueAt(curve, f)
  return out
}

/** A keyed curve of the columns that were sent: what says nothing is left out there. */
export function keyed(columns: Record<string, unknown>): KeyedCurve {
  const count = (columns.time as Float64Array).length
  return {
    kind: 'keyed',
    swings: new Uint8Array(count),
    decay: new Float64Array(count),
    extend: new Uint8Array(2),
    ...columns,
  } as KeyedCurve
}

/** The curves of a numeric message, by channel. */
export function curvesOf(message: Message): Map<ChannelKey, Curve> {
  const columns = new Map<ChannelKey, Record<string, unknown>>()
  for (const [name, { data }] of message.arrays) {
    const { owner, joint, channel } = splitKey(name)
    const key = channelKey(joint, channel, owner)
    const column = name.slice(key.length + 1)
    const entry = columns.get(key) ?? {}
    entry[column] = data
    columns.set(key, entry)
  }
  const out = new Map<ChannelKey, Curve>()
  for (const [key, entry] of columns)
    out.set(key, 'values' in entry ? ({ kind: 'sampled', ...entry } as SampledCurve) : keyed(entry))
  return out
}
