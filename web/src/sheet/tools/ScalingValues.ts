/** Dragging along the value scale zooms values about where it was taken. */
import { yToValue, zoomValue } from '../../ui/geometry'
import type { Surface } from '../surface'
import type { At, Tool } from './tool'

export class ScalingValues implements Tool {
  readonly cursor = 'ns-resize'
  private view
  private about: number

  constructor(
    sheet: Surface,
    private from: At,
  ) {
    this.view = sheet.view
    this.about = yToValue(sheet.view, sheet.box, from.y)
  }

  onMove(sheet: Surface, at: At): void {
    sheet.setView(zoomValue(this.view, 1.01 ** (at.y - this.from.y), this.about))
  }

  onUp(): void {}

  onCancel(sheet: Surface): void {
    sheet.setView(this.view)
  }
}
