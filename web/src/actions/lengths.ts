/** Lengths of lines: millimetres, whatever unit the clip's own numbers are in. */
import type { Clip } from '../evaluation/model'

/** Lengths in the skeleton's unit as a line says them. */
export function inMillimetres(
  clip: Pick<Clip, 'reading'>,
  values: readonly number[],
): [number, number, number] {
  const [x, y, z] = values.map((v) => 1000 * v * clip.reading.metres_per_unit)
  return [x!, y!, z!]
}
