/** What the pointer's states know of the timing sheet, and its measures in pixels. */
import type { ChannelKey } from '../evaluation/curves'
import type { Slide } from '../evaluation/sliding'
import type { At, Box, View } from '../ui/geometry'
import type { Row } from './rows'

export const ROW = 24
export const RULER = 24

/** A key of a row: all the keys of its channels that stand at that time. */
export interface KeyPlace {
  row: Row
  time: number
}

export interface Surface {
  readonly view: View
  readonly box: Box
  setView: (view: View) => void
  timeAt: (x: number) => number
  keyAt: (at: At) => KeyPlace | null
  keysOf: (place: KeyPlace) => Map<ChannelKey, Set<number>>
  keysIn: (area: Box) => Map<ChannelKey, Set<number>>
  /** First and last time of the selected keys. */
  extent: () => [number, number] | null
  gripAt: (at: At) => 'first' | 'last' | null
  toTime: (time: number) => void
  showSlide: (slide: Partial<Slide>) => Slide
  showBox: (box: Box | null) => void
  hover: (at: At) => void
  click: (at: At) => void
}
