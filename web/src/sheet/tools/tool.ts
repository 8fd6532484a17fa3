/** What every state of a sheet's pointer is. One file a state; Escape always restores. */
import type { At } from '../../ui/geometry'
import type { Surface } from '../surface'

export type { At }

export interface Tool<S = Surface> {
  readonly cursor: string
  onMove(sheet: S, at: At): void
  /** What was begun is done: the pointer is idle again. */
  onUp(sheet: S, at: At): void
  /** Put back what stood when the state was entered. */
  onCancel(sheet: S): void
}

/** Nothing is held: a press chooses the next state. */
export interface Resting<S> extends Tool<S> {
  onDown(sheet: S, at: At): Tool<S>
}

/** Pixels within which a press has not become a drag. */
export const STILL = 3
export const moved = (from: At, at: At): boolean => Math.hypot(at.x - from.x, at.y - from.y) > STILL

/** Two corners as a box. */
export const boxOf = (a: At, b: At) => ({
  left: Math.min(a.x, b.x),
  top: Math.min(a.y, b.y),
  width: Math.abs(a.x - b.x),
  height: Math.abs(a.y - b.y),
})
