/** What dragging keys, handles and the scale box have in common: edits that are shown while they
 * are dragged, kept on release, and put back on Escape. */

import { commitEdits, showEdits } from '../../actions/edits'
import type { Edits } from '../../evaluation/keys'
import { draft } from '../../view/draft'
import type { Surface } from '../surface'
import { type At, moved, type Tool } from './tool'

export abstract class KeyDrag implements Tool {
  abstract readonly cursor: string
  private edits: Edits | null = null

  constructor(protected from: At) {}

  /** What the keys become with the pointer there. */
  protected abstract edit(sheet: Surface, at: At): Edits

  onMove(sheet: Surface, at: At): void {
    if (!this.edits && !moved(this.from, at)) return
    this.edits = this.edit(sheet, at)
    showEdits(this.edits)
  }

  onUp(): void {
    if (this.edits) void commitEdits(this.edits)
  }

  onCancel(_sheet: Surface): void {
    draft.drop()
  }
}
