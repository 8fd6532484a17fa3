/** A change of time by pins, as the core's `Warp` makes it: shown while pins are dragged. */

export interface Pin {
  from: number
  to: number
}

/** A pin's speed as a multiple of a neighbouring stretch's, at most. */
const STEEPEST = 2.5

export class Warp {
  private speeds: number[]

  constructor(
    private pins: readonly Pin[],
    private smooth: boolean,
  ) {
    this.speeds = pins.map((_, k) => this.speedAt(k))
  }

  /** New frames for an old one between a pin and the next. */
  private step(k: number): number {
    const [a, b] = [this.pins[k]!, this.pins[k + 1]!]
    return (b.to - a.to) / (b.from - a.from)
  }

  private speedAt(k: number): number {
    const { pins } = this
    if (k === 0) return Math.min(1, STEEPEST * this.step(0))
    if (k === pins.length - 1) return Math.min(1, STEEPEST * this.step(k - 1))
    const before = pins[k]!.from - pins[k - 1]!.from
    const after = pins[k + 1]!.from - pins[k]!.from
    const [left, right] = [this.step(k - 1), this.step(k)]
    const w1 = 2 * after + before
    const w2 = after + 2 * before
    const mean = (w1 + w2) / (w1 / left + w2 / right)
    return Math.min(mean, STEEPEST * left, STEEPEST * right)
  }

  private within(k: number, u: number): number {
    const [a, b] = [this.pins[k]!, this.pins[k + 1]!]
    if (!this.smooth) return a.to + u * (b.to - a.to)
    const h = b.from - a.from
    return (
      (2 * u ** 3 - 3 * u ** 2 + 1) * a.to +
      (u ** 3 - 2 * u ** 2 + u) * h * this.speeds[k]! +
      (3 * u ** 2 - 2 * u ** 3) * b.to +
      (u ** 3 - u ** 2) * h * this.speeds[k + 1]!
    )
  }

  private get later(): number {
    const last = this.pins.at(-1)!
    return last.to - last.from
  }

  /** Where a frame comes to lie. */
  to(t: number): number {
    const { pins } = this
    if (t < pins[0]!.from) return t
    if (t > pins.at(-1)!.from) return t + this.later
    const k = Math.min(
      pins.findLastIndex((p) => p.from <= t),
      pins.length - 2,
    )
    return this.within(k, (t - pins[k]!.from) / (pins[k + 1]!.from - pins[k]!.from))
  }

  /** What a frame of the new time was before. */
  back(t: number): number {
    const { pins } = this
    if (t < pins[0]!.to) return t
    if (t > pins.at(-1)!.to) return t - this.later
    const k = Math.min(
      pins.findLastIndex((p) => p.to <= t),
      pins.length - 2,
    )
    let [low, high] = [0, 1]
    for (let i = 0; i < 50; i++) {
      const middle = (low + high) / 2
      if (this.within(k, middle) > t) high = middle
      else low = middle
    }
    const [a, b] = [pins[k]!.from, pins[k + 1]!.from]
    return a + ((low + high) / 2) * (b - a)
  }
}
