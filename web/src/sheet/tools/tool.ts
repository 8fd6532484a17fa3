/** What every state of the sheet's pointer is. One file a state; Escape always restores. */
import type { Sheet } from '../Sheet'

export interface At {
  x: number
  y: number
  shift: boolean
  button: number
}

export interface Tool {
  readonly cursor: string
  onMove(sheet: Sheet, at: At): void
  onUp(sheet: Sheet, at: At): Tool
  /** Put back what stood when the state was entered. */
  onCancel(sheet: Sheet): void
}
