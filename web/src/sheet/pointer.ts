/** A canvas's pointer: in one state at a time, each a file of its own. */

import type { At } from '../ui/geometry'
import { useAsked } from '../view/overlay'
import type { Resting, Tool } from './tools/tool'

export class Pointer<S> {
  private tool: Tool<S> | null = null

  constructor(
    private surface: S,
    private canvas: HTMLCanvasElement,
    private rest: Resting<S>,
  ) {}

  get idle(): boolean {
    return this.tool === null
  }

  at(event: PointerEvent | WheelEvent | MouseEvent): At {
    const edge = this.canvas.getBoundingClientRect()
    return {
      x: event.clientX - edge.left,
      y: event.clientY - edge.top,
      shift: event.shiftKey,
      alt: event.altKey,
      ctrl: event.ctrlKey || event.metaKey,
      button: event.button,
    }
  }

  down(event: PointerEvent): void {
    if (event.button > 1 || this.tool) return
    this.canvas.setPointerCapture(event.pointerId)
    const next = this.rest.onDown(this.surface, this.at(event))
    this.tool = next === this.rest ? null : next
    this.canvas.style.cursor = next.cursor
  }

  move(event: PointerEvent): void {
    const tool = this.tool ?? this.rest
    tool.onMove(this.surface, this.at(event))
  }

  up(event: PointerEvent): void {
    this.tool?.onUp(this.surface, this.at(event))
    this.tool = null
    this.canvas.style.cursor = this.rest.cursor
  }

  /** Escape: the state under way is left and what it changed is put back. */
  cancel(): boolean {
    if (!this.tool) return false
    this.tool.onCancel(this.surface)
    this.tool = null
    return true
  }
}

/** A surface with a pointer, as its view speaks to it. */
export abstract class Pointed<S> {
  protected abstract readonly pointing: Pointer<S>

  down(event: PointerEvent): void {
    this.pointing.down(event)
  }

  move(event: PointerEvent): void {
    this.pointing.move(event)
  }

  up(event: PointerEvent): void {
    this.pointing.up(event)
  }

  /** A menu is asked for: a key under the pointer is picked, unless it is already. */
  menuAsked(event: MouseEvent): void {
    useAsked.setState({ onKey: this.pick(this.pointing.at(event)) })
  }

  /** Pick the key that stands at a place; whether one does. */
  protected abstract pick(at: At): boolean

  /** Escape: what is under way is put back. False where nothing is. */
  cancel(): boolean {
    return this.pointing.cancel()
  }
}
