/** The view follows the pointer. */
import { type Box, pan, type View } from '../../ui/geometry'
import type { At, Tool } from './tool'

/** What can be panned: a sheet of values, or of keys over time alone. */
interface Panned {
  view: View
  box: Box
  setView: (view: View) => void
}

export class Panning implements Tool<Panned> {
  readonly cursor = 'grabbing'
  private view

  constructor(
    sheet: Panned,
    private from: At,
  ) {
    this.view = sheet.view
  }

  onMove(sheet: Panned, at: At): void {
    const box = sheet.box
    const dt = ((this.from.x - at.x) / box.width) * (this.view.t1 - this.view.t0)
    const dv = ((at.y - this.from.y) / box.height) * (this.view.v1 - this.view.v0)
    sheet.setView(pan(this.view, dt, dv))
  }

  onUp(): void {}

  onCancel(sheet: Panned): void {
    sheet.setView(this.view)
  }
}
