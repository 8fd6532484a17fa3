/** Numbers for people: grouped, with units, of stable width. */
/** A number and its word: "1 key", "12 keys". */
export const counted = (n: number, word: string, many = `${word}s`): string =>
  `${grouped(n)} ${n === 1 ? word : many}`

export const grouped = (n: number): string => n.toLocaleString('en-GB')

/** Below a millionth of a degree or a millimetre is rounding of doubles, not motion. */
export const rounded = (v: number): number => (v < 1e-6 ? 0 : v)

export function degrees(d: number): string {
  if (d === 0) return '0°'
  if (d < 5e-4) return '< 0.001°'
  return `${d.toFixed(d < 0.1 ? 3 : 2)}°`
}

export function millimetres(mm: number): string {
  if (mm === 0) return '0 mm'
  if (mm < 5e-3) return '< 0.01 mm'
  return `${mm.toFixed(mm < 0.1 ? 2 : 1)} mm`
}

export function rateOf([numerator, denominator]: readonly number[]): string {
  const rate = numerator! / denominator!
  return Number.isInteger(rate) ? String(rate) : rate.toFixed(3)
}

export function seconds(s: number): string {
  const minutes = Math.floor(s / 60)
  return minutes ? `${minutes} min ${(s - 60 * minutes).toFixed(1)} s` : `${s.toFixed(2)} s`
}

export function bytes(n: number): string {
  if (n === 0) return '0 kB'
  if (n < 1e5) return `${(n / 1e3).toFixed(1)} kB`
  return n < 1e9 ? `${(n / 1e6).toFixed(1)} MB` : `${(n / 1e9).toFixed(1)} GB`
}

/** A day, as 26 Nov 2026. */
export const day = (when: string): string =>
  new Date(when).toLocaleDateString('en-GB', { day: 'numeric', month: 'short', year: 'numeric' })

/** A day and its time, to the minute. */
export const moment = (when: string): string =>
  `${day(when)}, ${new Date(when).toLocaleTimeString('en-GB', { hour: '2-digit', minute: '2-digit' })}`
