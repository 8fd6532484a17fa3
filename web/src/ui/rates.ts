/** Frame rates that motion comes in and goes out at (common practice), by what they are called. */
export const RATES: Record<string, [number, number]> = {
  '23.976': [24000, 1001],
  '24': [24, 1],
  '25': [25, 1],
  '29.97': [30000, 1001],
  '30': [30, 1],
  '48': [48, 1],
  '50': [50, 1],
  '59.94': [60000, 1001],
  '60': [60, 1],
  '90': [90, 1],
  '100': [100, 1],
  '120': [120, 1],
  '150': [150, 1],
  '240': [240, 1],
}
