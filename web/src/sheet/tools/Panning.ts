/** The view follows the pointer. */
import { pan } from '../geometry'
import type { Sheet } from '../Sheet'
import type { At, Tool } from './tool'

export class Panning implements Tool {
  readonly cursor = 'grabbing'
  private view

  constructor(
    sheet: Sheet,
    private from: At,
  ) {
    this.view = sheet.view
  }

  onMove(sheet: Sheet, at: At): void {
    const box = sheet.box
    const dt = ((this.from.x - at.x) / box.width) * (this.view.t1 - this.view.t0)
    const dv = ((at.y - this.from.y) / box.height) * (this.view.v1 - this.view.v0)
    sheet.setView(pan(this.view, dt, dv))
  }

  onUp(): void {}

  onCancel(sheet: Sheet): void {
    sheet.setView(this.view)
  }
}
