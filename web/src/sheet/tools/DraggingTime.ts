/** Time follows the pointer. */
import { transport } from '../../view/transport'
import type { At, Tool } from './tool'

interface Timed {
  timeAt: (x: number) => number
}

export class DraggingTime implements Tool<Timed> {
  readonly cursor = 'ew-resize'
  private start = transport.frame

  constructor(sheet: Timed, at: At) {
    transport.pause()
    this.onMove(sheet, at)
  }

  onMove(sheet: Timed, at: At): void {
    transport.seek(sheet.timeAt(at.x))
  }

  onUp(): void {}

  onCancel(): void {
    transport.seek(this.start)
  }
}
