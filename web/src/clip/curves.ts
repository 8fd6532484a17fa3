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
}

export type Curve = SampledCurve | KeyedCurve

/** `"12/rx"`: a joint's index and a channel. */
export type ChannelKey = string

export const channelKey = (joint: number, channel: string): ChannelKey => `${joint}/${channel}`

export function splitKey(key: ChannelKey): { joint: number; channel: string } {
  const [joint, channel] = key.split('/')
  return { joint: Number(joint), channel: channel! }
}

export const turns = (key: ChannelKey): boolean => key.split('/')[1]![0] === 'r'
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

const SEGMENT_STRAIGHT = 1
const SEGMENT_HOLD = 2
const THIRD = 1 / 3

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
  const { time: times, value } = curve
  const last = times.length - 1
  const k = keyAt(times, time)
  if (k < 0) return value[0]!
  if (k >= last) return value[last]!
  const v0 = value[k]!
  const v1 = value[k + 1]!
  if (curve.segment[k] === SEGMENT_HOLD) return v0
  const span = times[k + 1]! - times[k]!
  const x = (time - times[k]!) / span
  if (curve.segment[k] === SEGMENT_STRAIGHT) return v0 + x * (v1 - v0)
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

/** The curves of a numeric message, by channel. */
export function curvesOf(message: Message): Map<ChannelKey, Curve> {
  const columns = new Map<ChannelKey, Record<string, unknown>>()
  for (const [name, { data }] of message.arrays) {
    const [joint, channel, column] = name.split('/')
    const key = `${joint}/${channel}`
    const entry = columns.get(key) ?? {}
    entry[column!] = data
    columns.set(key, entry)
  }
  const out = new Map<ChannelKey, Curve>()
  for (const [key, entry] of columns) {
    const kind = 'values' in entry ? 'sampled' : 'keyed'
    out.set(key, { kind, ...entry } as unknown as Curve)
  }
  return out
}
