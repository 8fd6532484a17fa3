/** What is taken hold of on the stage: a press over a view, before the view's own controls. */
import type { Eye } from './Eye'

export interface Hand {
  down(eye: Eye, event: PointerEvent): void
  move(eye: Eye, event: PointerEvent): void
  up(): void
}

/** Have a hand listen to the pointer over views; returns how it is let go of. */
export function listen(eyes: readonly Eye[], hand: Hand): () => void {
  const stops = eyes.map((eye) => {
    const down = (event: PointerEvent) => hand.down(eye, event)
    const move = (event: PointerEvent) => hand.move(eye, event)
    const up = () => hand.up()
    // A press that takes hold of something turns no view.
    eye.element.addEventListener('pointerdown', down, { capture: true })
    eye.element.addEventListener('pointermove', move)
    eye.element.addEventListener('pointerup', up)
    return () => {
      eye.element.removeEventListener('pointerdown', down, { capture: true })
      eye.element.removeEventListener('pointermove', move)
      eye.element.removeEventListener('pointerup', up)
    }
  })
  return () => {
    for (const stop of stops) stop()
  }
}
