/** The view follows the pointer in time. */
import { pan } from '../../sheet/geometry'
import type { At, Tool } from '../../sheet/tools/tool'
import type { Timing } from '../Timing'

export class Panning implements Tool<Timing> {
  readonly cursor = 'grabbing'
  private view

  constructor(
    timing: Timing,
    private from: At,
  ) {
    this.view = timing.view
  }

  onMove(timing: Timing, at: At): void {
    const { t0, t1 } = this.view
    timing.setView(pan(this.view, ((this.from.x - at.x) / timing.box.width) * (t1 - t0), 0))
  }

  onUp(): void {}

  onCancel(timing: Timing): void {
    timing.setView(this.view)
  }
}
