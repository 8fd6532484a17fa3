/** What a lane of the strip does with the pointer, where more than a press is meant. */

/** Where frames are on the strip. */
export interface Scale {
  x: (frame: number) => number
  frame: (x: number) => number
}

export interface LaneHand {
  /** A press: whether the lane takes hold of something. */
  down(x: number, scale: Scale): boolean
  move(x: number, scale: Scale): void
  up(): void
  /** Escape: put back what stood. */
  cancel(): void
  cursor(x: number, scale: Scale): string
}

/** Pixels within which an edge is taken hold of. */
export const EDGE = 5
