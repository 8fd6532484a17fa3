/** The brushes while they are being dragged: as the core's `brush`, on what is shown. */
import { type Curve, type KeyedCurve, valueAt } from './curves'
import { copied, settleAt } from './keys'

export type BrushKind = 'pull' | 'calm' | 'restore'

export interface Dab {
  frame: number
  strength: number
}

export interface Stroke {
  kind: BrushKind
  radius: number
  dabs: Dab[]
  by: number
  by_frames: number
}

const STEEPEST = 1.539600717839002

/** Full in the middle, nothing from the radius on: `(1 - x²)²`. */
export function fallOff(time: number, middle: number, radius: number): number {
  const x = (time - middle) / radius
  return Math.abs(x) < 1 ? (1 - x * x) ** 2 : 0
}

const fallRate = (time: number, middle: number, radius: number): number => {
  const x = (time - middle) / radius
  return Math.abs(x) < 1 ? (-4 * x * (1 - x * x)) / radius : 0
}

/** A curve under a stroke. `take` is needed to restore; picked keys alone change where given. */
export function brushed(
  curve: Curve,
  stroke: Stroke,
  take: Curve | undefined,
  picked: ReadonlySet<number> | null,
): Curve {
  let out = curve
  for (const dab of stroke.dabs)
    out =
      out.kind === 'sampled'
        ? dense(out.values, stroke, dab, take)
        : sparse(out, stroke, dab, take, picked)
  return out
}

function dense(values: Float64Array, stroke: Stroke, dab: Dab, take: Curve | undefined): Curve {
  const { radius, kind } = stroke
  const last = values.length - 1
  const from = Math.max(0, Math.floor(dab.frame - radius))
  const to = Math.min(last, Math.ceil(dab.frame + radius))
  const out = values.slice()
  if (kind === 'pull') {
    const by = stroke.by * dab.strength
    const later = withinReach(stroke, dab)
    const raised = out.map((v, f) => v + by * fallOff(f, dab.frame, radius))
    if (later === 0) return { kind: 'sampled', values: raised }
    // Where frame f ends up, times between are shared out along straight lines.
    let k = from
    const moved = (f: number) => f + later * fallOff(f, dab.frame, radius)
    for (let f = from; f <= to; f++) {
      while (k < last && moved(k + 1) < f) k++
      while (k > 0 && moved(k) > f) k--
      const next = Math.min(k + 1, last)
      const span = moved(next) - moved(k) || 1
      const share = Math.min(Math.max((f - moved(k)) / span, 0), 1)
      out[f] = raised[k]! + share * (raised[next]! - raised[k]!)
    }
    return { kind: 'sampled', values: out }
  }
  const goal = kind === 'calm' ? smoothed(values, radius, from, to) : null
  for (let f = from; f <= to; f++) {
    if (kind === 'calm' && (f === 0 || f === last)) continue
    const w = dab.strength * fallOff(f, dab.frame, radius)
    const towards = goal ? goal[f - from]! : take ? valueAt(take, f) : values[f]!
    out[f] = values[f]! + w * (towards - values[f]!)
  }
  return { kind: 'sampled', values: out }
}

/** Time may be squeezed, never turned. */
function withinReach(stroke: Stroke, dab: Dab): number {
  const most = (0.98 * stroke.radius) / STEEPEST
  return Math.min(Math.max(stroke.by_frames * dab.strength, -most), most)
}

/** Weighted means about frames from … to; beyond the ends values are mirrored about them. */
function smoothed(values: Float64Array, radius: number, from: number, to: number): Float64Array {
  const sigma = Math.max(0.8, radius / 5)
  const reach = Math.ceil(4 * sigma)
  const weights = Array.from({ length: 2 * reach + 1 }, (_, i) =>
    Math.exp(-0.5 * ((i - reach) / sigma) ** 2),
  )
  const whole = weights.reduce((a, b) => a + b, 0)
  const last = values.length - 1
  const at = (f: number) =>
    f < 0
      ? 2 * values[0]! - values[Math.min(-f, last)]!
      : f > last
        ? 2 * values[last]! - values[Math.max(2 * last - f, 0)]!
        : values[f]!
  const out = new Float64Array(to - from + 1)
  for (let f = from; f <= to; f++) {
    let sum = 0
    for (let i = -reach; i <= reach; i++) sum += weights[i + reach]! * at(f + i)
    out[f - from] = sum / whole
  }
  return out
}

function sparse(
  curve: KeyedCurve,
  stroke: Stroke,
  dab: Dab,
  take: Curve | undefined,
  picked: ReadonlySet<number> | null,
): KeyedCurve {
  const out = copied(curve)
  const { kind, radius } = stroke
  const last = curve.time.length - 1
  const touched: number[] = []
  const weight = (k: number) =>
    picked && !picked.has(Number(curve.id[k])) ? 0 : fallOff(curve.time[k]!, dab.frame, radius)
  let later = withinReach(stroke, dab)
  if (kind === 'pull' && picked)
    for (let k = 0; k < last; k++) {
      const a = curve.time[k]! + later * weight(k)
      if (a >= curve.time[k + 1]! + later * weight(k + 1)) later = 0
    }
  for (let k = 0; k <= last; k++) {
    const w = weight(k)
    if (w === 0) continue
    touched.push(k)
    if (kind === 'pull') {
      const rate = picked ? 0 : fallRate(curve.time[k]!, dab.frame, radius)
      const by = stroke.by * dab.strength
      out.time[k] = curve.time[k]! + later * w
      out.value[k] = curve.value[k]! + by * w
      const stretch = 1 + later * rate
      out.slope_in[k] = (curve.slope_in[k]! + by * rate) / stretch
      out.slope_out[k] = (curve.slope_out[k]! + by * rate) / stretch
      continue
    }
    if (kind === 'calm' && (k === 0 || k === last)) continue
    const share = dab.strength * w
    let goal = curve.value[k]!
    let slope = 0
    if (kind === 'calm') {
      const span = curve.time[k + 1]! - curve.time[k - 1]!
      slope = (curve.value[k + 1]! - curve.value[k - 1]!) / span
      goal = curve.value[k - 1]! + slope * (curve.time[k]! - curve.time[k - 1]!)
    } else if (take) {
      goal = valueAt(take, curve.time[k]!)
      slope = valueAt(take, curve.time[k]! + 0.5) - valueAt(take, curve.time[k]! - 0.5)
    }
    out.value[k] = curve.value[k]! + share * (goal - curve.value[k]!)
    out.slope_in[k] = curve.slope_in[k]! + share * (slope - curve.slope_in[k]!)
    out.slope_out[k] = curve.slope_out[k]! + share * (slope - curve.slope_out[k]!)
  }
  // Keys that the brush did not reach keep their handles, as in the core.
  settleAt(out, touched)
  return out
}
