/** The brush is sized by dragging: to the side its radius, up and down its strength. */
import { setRadius, setStrength, useBrush } from '../brushState'
import type { Surface } from '../surface'
import type { At, Tool } from './tool'

export class SizingBrush implements Tool {
  readonly cursor = 'move'
  private before = useBrush.getState()

  constructor(private from: At) {}

  onMove(sheet: Surface, at: At): void {
    const perPixel = (sheet.view.t1 - sheet.view.t0) / sheet.box.width
    setRadius(this.before.radius + (at.x - this.from.x) * perPixel)
    setStrength(this.before.strength + (this.from.y - at.y) / 150)
    // Shown where it was taken, so that it grows about one place.
    sheet.hover(this.from)
  }

  onUp(): void {}

  onCancel(): void {
    const { radius, strength } = this.before
    useBrush.setState({ radius, strength })
  }
}
