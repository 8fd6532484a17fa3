/** Time follows the pointer. */
import { transport } from '../../clip/transport'
import type { Sheet } from '../Sheet'
import type { At, Tool } from './tool'

export class DraggingTime implements Tool {
  readonly cursor = 'ew-resize'
  private start = transport.frame

  constructor(sheet: Sheet, at: At) {
    transport.pause()
    this.onMove(sheet, at)
  }

  onMove(sheet: Sheet, at: At): void {
    transport.seek(sheet.timeAt(at.x))
  }

  onUp(): void {}

  onCancel(): void {
    transport.seek(this.start)
  }
}
