/** The view follows the pointer; a press that does not move picks the key or curve under it. */
import { pan } from '../geometry'
import type { Sheet } from '../Sheet'
import { Idle } from './Idle'
import type { At, Tool } from './tool'

const STILL = 3

export class Panning implements Tool {
  readonly cursor = 'grabbing'
  private view
  private moved = false

  constructor(
    sheet: Sheet,
    private from: At,
  ) {
    this.view = sheet.view
  }

  onMove(sheet: Sheet, at: At): void {
    if (Math.hypot(at.x - this.from.x, at.y - this.from.y) > STILL) this.moved = true
    if (!this.moved) return
    const box = sheet.box
    const dt = ((this.from.x - at.x) / box.width) * (this.view.t1 - this.view.t0)
    const dv = ((at.y - this.from.y) / box.height) * (this.view.v1 - this.view.v0)
    sheet.setView(pan(this.view, dt, dv))
  }

  onUp(sheet: Sheet, at: At): Tool {
    if (!this.moved) sheet.click(at)
    return new Idle()
  }

  onCancel(sheet: Sheet): void {
    sheet.setView(this.view)
  }
}
