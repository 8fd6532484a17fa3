/** Time pins on the strip: each but the first is dragged along its lane. */
import { movePin, show, usePins } from '../actions/pins'
import { EDGE, type LaneHand, type Scale } from './laneHand'

export class PinsHand implements LaneHand {
  private held: { index: number; began: number } | null = null

  private near(x: number, scale: Scale): number {
    const pins = usePins.getState().pins ?? []
    return pins.findIndex((pin, k) => k > 0 && Math.abs(scale.x(pin.to) - x) <= EDGE + 2)
  }

  down(x: number, scale: Scale): boolean {
    const index = this.near(x, scale)
    if (index < 0) return false
    this.held = { index, began: usePins.getState().pins![index]!.to }
    return true
  }

  move(x: number, scale: Scale): void {
    if (this.held) movePin(this.held.index, scale.frame(x))
  }

  up(): void {
    if (this.held) show(true)
    this.held = null
  }

  cancel(): void {
    if (!this.held) return
    movePin(this.held.index, this.held.began)
    this.held = null
    show(true)
  }

  cursor(x: number, scale: Scale): string {
    return this.near(x, scale) < 0 ? '' : 'col-resize'
  }
}
