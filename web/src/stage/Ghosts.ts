/** The figure as it stands some frames before and after now. */
import type { Group } from 'three'
import type { Clip } from '../evaluation/model'
import type { Overrides, Poses } from '../evaluation/poses'
import { Figure, type Look } from './Figure'

const SEEN = 0.2
const MOST = 4 // on each side

/** Frames on both sides of now within a span, of a clip of so many frames. */
export function framesAround(at: number, span: number, apart: number, frames: number): number[] {
  const each = Math.min(MOST, Math.floor(span / apart))
  return Array.from({ length: each }, (_, i) => (i + 1) * apart)
    .flatMap((by) => [at - by, at + by])
    .filter((f) => f >= 0 && f < frames)
}

export class Ghosts {
  readonly figures: Figure[] = []

  constructor(private space: Group) {}

  /** The figure as it stands on each of these frames. */
  show(
    clip: Clip,
    look: Look,
    line: number,
    poses: Poses,
    frames: readonly number[],
    overrides: (frame: number) => Overrides | undefined,
  ): void {
    while (this.figures.length < frames.length) {
      const figure = new Figure(clip, look, SEEN)
      figure.line = line
      figure.colour(new Set())
      this.space.add(figure.group)
      this.figures.push(figure)
    }
    this.figures.forEach((figure, k) => {
      const frame = frames[k]
      figure.group.visible = frame !== undefined
      if (frame !== undefined) figure.pose(poses, frame, overrides(frame))
    })
  }

  /** Another figure is shown from now on. */
  clear(): void {
    for (const figure of this.figures) figure.dispose()
    this.figures.length = 0
  }
}
