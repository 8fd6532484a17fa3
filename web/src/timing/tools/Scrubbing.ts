/** Time follows the pointer along the ruler. */
import { transport } from '../../clip/transport'
import type { At, Tool } from '../../sheet/tools/tool'
import type { Timing } from '../Timing'

export class Scrubbing implements Tool<Timing> {
  readonly cursor = 'ew-resize'
  private before = transport.frame

  constructor(timing: Timing, at: At) {
    transport.pause()
    transport.seek(timing.timeAt(at.x))
  }

  onMove(timing: Timing, at: At): void {
    transport.seek(timing.timeAt(at.x))
  }

  onUp(): void {}

  onCancel(): void {
    transport.seek(this.before)
  }
}
