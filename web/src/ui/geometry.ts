/** The sheet's arithmetic: views, bands, ticks, columns. No canvas here. */

/** What is seen: frames t0..t1, values v0 (bottom) .. v1 (top). */
export interface View {
  t0: number
  t1: number
  v0: number
  v1: number
}

/** The pointer on a surface: where it is, and what is held with it. */
export interface At {
  x: number
  y: number
  shift: boolean
  alt: boolean
  ctrl: boolean
  button: number
}

export interface Box {
  left: number
  top: number
  width: number
  height: number
}

export const timeToX = (view: View, box: Box, t: number): number =>
  box.left + ((t - view.t0) / (view.t1 - view.t0)) * box.width
export const xToTime = (view: View, box: Box, x: number): number =>
  view.t0 + ((x - box.left) / box.width) * (view.t1 - view.t0)
export const valueToY = (view: View, box: Box, v: number): number =>
  box.top + (1 - (v - view.v0) / (view.v1 - view.v0)) * box.height
export const yToValue = (view: View, box: Box, y: number): number =>
  view.v0 + (1 - (y - box.top) / box.height) * (view.v1 - view.v0)

const SHORTEST = 2 // frames
const SMALLEST = 1e-4

/** Zoom time by `factor` (< 1 nearer) about a time that stays put. */
export function zoomTime(view: View, factor: number, about: number): View {
  const span = Math.max((view.t1 - view.t0) * factor, SHORTEST)
  const k = span / (view.t1 - view.t0)
  return { ...view, t0: about - (about - view.t0) * k, t1: about + (view.t1 - about) * k }
}

/** The same seconds where frames are `scale` times as many. */
export const stretched = (view: View, scale: number): View => ({
  ...view,
  t0: view.t0 * scale,
  t1: view.t1 * scale,
})

export function zoomValue(view: View, factor: number, about: number): View {
  const span = Math.max((view.v1 - view.v0) * factor, SMALLEST)
  const k = span / (view.v1 - view.v0)
  return { ...view, v0: about - (about - view.v0) * k, v1: about + (view.v1 - about) * k }
}

export function pan(view: View, dt: number, dv: number): View {
  return { t0: view.t0 + dt, t1: view.t1 + dt, v0: view.v0 + dv, v1: view.v1 + dv }
}

/** Values with a margin, so that curves do not touch the edge; a flat curve gets a unit. */
export function padded(low: number, high: number): [number, number] {
  if (!Number.isFinite(low) || !Number.isFinite(high)) return [-1, 1]
  const room = Math.max((high - low) * 0.08, 0.5 * Number(high - low < 1e-6), 1e-3)
  return [low - room, high + room]
}

/** Round steps (1, 2, 5 × 10ⁿ) so that about `wanted` ticks fall in low..high. */
export function ticks(low: number, high: number, wanted: number, whole = false): number[] {
  const rough = (high - low) / Math.max(wanted, 1)
  const power = 10 ** Math.floor(Math.log10(rough))
  let step = power * ([1, 2, 5, 10].find((m) => m * power >= rough) ?? 10)
  if (whole) step = Math.max(1, Math.round(step))
  const out: number[] = []
  for (let k = Math.ceil(low / step); k * step <= high + 1e-9; k++) out.push(k * step + 0) // never -0
  return out
}

/** The box of band `index` of `count`, stacked from the top with a gap between. */
export function band(box: Box, index: number, count: number): Box {
  const height = box.height / count
  const gap = Math.min(4, height * 0.1)
  return { ...box, top: box.top + index * height + gap / 2, height: height - gap }
}

/** Lowest and highest of `values` in each of `columns` pixel columns over frames t0..t1;
 * a column joins the last sample of the one before. NaN where there are no samples. */
export function columns(
  values: Float64Array,
  t0: number,
  t1: number,
  count: number,
  out: Float64Array,
): void {
  const last = values.length - 1
  for (let c = 0; c < count; c++) {
    const from = t0 + (c / count) * (t1 - t0)
    const to = t0 + ((c + 1) / count) * (t1 - t0)
    if (to < 0 || from > last) {
      out[2 * c] = out[2 * c + 1] = Number.NaN
      continue
    }
    const i0 = Math.max(Math.floor(from), 0)
    const i1 = Math.min(Math.ceil(to), last)
    let low = Number.POSITIVE_INFINITY
    let high = Number.NEGATIVE_INFINITY
    for (let i = i0; i <= i1; i++) {
      const v = values[i]!
      if (v < low) low = v
      if (v > high) high = v
    }
    out[2 * c] = low
    out[2 * c + 1] = high
  }
}
