/** What the pointer's states know of the curve sheet: where things are, and what to do to it. */
import type { BrushKind } from '../evaluation/brush'
import type { ChannelKey, Curve } from '../evaluation/curves'
import type { At, Box, View } from '../ui/geometry'

/** A key of the sheet, where it stands. */
export interface KeyPlace {
  channel: ChannelKey
  id: number
  time: number
}

export interface HandleEnd {
  index: number
  side: 'in' | 'out'
  /** Its end, in frames and the channel's unit. */
  time: number
  value: number
}

/** Where a handle is drawn and grabbed, in pixels. */
export interface Spot {
  x: number
  y: number
  /** How far that is from its true end: one close to its key is drawn longer. */
  beyond: readonly [number, number]
}

export interface HandlePlace extends HandleEnd, Spot {
  channel: ChannelKey
}

/** Which side of the scale box is held: −1 the first or lowest, 1 the last or highest, 0 neither. */
export interface Grip {
  time: -1 | 0 | 1
  value: -1 | 0 | 1
}

/** What the selected keys span. */
export interface Extent {
  t0: number
  t1: number
  v0: number
  v1: number
}

export interface Surface {
  readonly view: View
  readonly box: Box
  readonly brush: BrushKind | null
  /** A preview is shown: nothing can be taken hold of. */
  readonly previewed: boolean
  /** The take's curves, for what brings it back. */
  readonly take: ReadonlyMap<ChannelKey, Curve>
  setView: (view: View) => void
  timeAt: (x: number) => number
  region: (at: At) => 'gutter' | 'ruler' | 'now' | 'field'
  curve: (key: ChannelKey) => Curve | undefined
  placeOf: (key: ChannelKey) => { view: View; box: Box }
  snapped: (value: number) => number
  keyAt: (at: At) => (KeyPlace & { gap: number }) | null
  keysIn: (area: Box) => Map<ChannelKey, Set<number>>
  handleAt: (at: At) => HandlePlace | null
  extent: () => Extent | null
  gripAt: (at: At) => Grip | null
  pivotAt: (at: At) => boolean
  toKey: (key: KeyPlace) => void
  followKey: (key: KeyPlace, by: number) => void
  nearest: (at: At) => ChannelKey | null
  hover: (at: At) => void
  click: (at: At) => void
  showBox: (box: Box | null) => void
}
