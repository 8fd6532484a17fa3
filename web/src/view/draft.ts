/** Curves that are being changed by hand and are not yet the server's: drawn at once by the sheet
 * and the stage, without a picture of React in between. */
import type { Corrected } from '../evaluation/corrections'
import type { ChannelKey, Curve } from '../evaluation/curves'

type Listener = () => void

class Draft {
  /** What is being dragged now. */
  curves: ReadonlyMap<ChannelKey, Curve> = new Map()
  /** What was let go of: the stage shows it until the poses of it arrive. */
  private kept: ReadonlyMap<ChannelKey, Curve> = new Map()
  /** Corrections that were let go of, until the poses of them arrive. */
  landing: readonly Corrected[] = []
  /** Channels that the stage plays without. */
  muted: ReadonlySet<ChannelKey> = new Set()
  private listeners = new Set<Listener>()

  subscribe = (listener: Listener): (() => void) => {
    this.listeners.add(listener)
    return () => this.listeners.delete(listener)
  }

  private tell(): void {
    for (const listener of this.listeners) listener()
  }

  set(curves: ReadonlyMap<ChannelKey, Curve>): void {
    this.curves = curves
    this.tell()
  }

  drop(): void {
    if (this.curves.size) this.set(new Map())
  }

  /** What is on its way: hand work that the poses do not have yet. */
  settle(kept: ReadonlyMap<ChannelKey, Curve>, landing: readonly Corrected[]): void {
    const same =
      kept.size === this.kept.size &&
      [...kept].every(([key, c]) => this.kept.get(key) === c) &&
      landing.length === this.landing.length &&
      landing.every((x, k) => x === this.landing[k])
    if (same) return
    this.kept = kept
    this.landing = landing
    this.tell()
  }

  mute(muted: ReadonlySet<ChannelKey>): void {
    this.muted = muted
    this.tell()
  }

  /** Curves that differ from the poses which the server sent. */
  get ahead(): ReadonlyMap<ChannelKey, Curve> {
    return this.kept.size ? new Map([...this.kept, ...this.curves]) : this.curves
  }
}

export const draft = new Draft()
