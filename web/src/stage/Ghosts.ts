/** The figure as it stands some frames before and after now. */
import type { Group } from 'three'
import type { Clip } from '../evaluation/model'
import type { Overrides, Poses } from '../evaluation/poses'
import { Figure, type Look } from './Figure'

const SEEN = 0.2
const MOST = 4 // on each side

/** Frames on both sides of now within a span; none without a distance between them. */
export function framesAround(at: number, span: number, apart: number | null): number[] {
  const each = apart === null ? 0 : Math.min(MOST, Math.floor(span / apart))
  return Array.from({ length: each }, (_, i) => (i + 1) * apart!).flatMap((by) => [
    at - by,
    at + by,
  ])
}

export class Ghosts {
  readonly figures: Figure[] = []
  private frames: number[] = []

  constructor(private space: Group) {}

  /** As many as there are frames. */
  show(clip: Clip, look: Look, line: number, frames: number[]): void {
    this.frames = frames
    while (this.figures.length < frames.length) {
      const figure = new Figure(clip, look, SEEN)
      figure.line = line
      figure.colour(new Set())
      this.space.add(figure.group)
      this.figures.push(figure)
    }
  }

  pose(poses: Poses, overrides: (frame: number) => Overrides | undefined): void {
    this.figures.forEach((figure, k) => {
      const frame = this.frames[k]
      const there = frame !== undefined && frame >= 0 && frame < poses.frames
      figure.group.visible = there
      if (there) figure.pose(poses, frame, overrides(frame))
    })
  }

  /** Another figure is shown from now on. */
  clear(): void {
    for (const figure of this.figures) figure.dispose()
    this.figures.length = 0
  }
}
