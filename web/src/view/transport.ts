/** Time on the bench: one clock that the stage, the strip and the sheet listen to.
 *
 * Playback keeps true time: a late picture skips frames, it never slows the motion. No React
 * state changes while playing.
 */

export type Listener = () => void

export class Transport {
  /** Now, in frames; fractional only while dragging between frames is asked for. */
  frame = 0
  playing = false
  loop = true
  speed = 1
  range: [number, number] = [0, 0]
  frames = 1
  rate = 30
  private listeners = new Set<Listener>()
  private origin = 0
  private began = 0
  private handle = 0

  /** Whether the range is a part of the clip. */
  get partial(): boolean {
    return this.range[0] > 0 || this.range[1] < this.frames - 1
  }

  /** The same clip on another time: now and the range stay where they were in seconds. */
  follow(frames: number, rate: number): void {
    const [first, last] = this.range
    const { partial, frame } = this
    const scale = rate / this.rate
    this.fit(frames, rate)
    if (partial) this.setRange(first * scale, last * scale)
    this.seek(frame * scale)
  }

  /** Begin a clip: range fitted to all of it. */
  fit(frames: number, rate: number): void {
    this.pause()
    this.frames = frames
    this.rate = rate
    this.range = [0, Math.max(0, frames - 1)]
    this.frame = Math.min(this.frame, this.range[1])
    this.tell()
  }

  subscribe = (listener: Listener): (() => void) => {
    this.listeners.add(listener)
    return () => this.listeners.delete(listener)
  }

  private tell(): void {
    for (const listener of this.listeners) listener()
  }

  /** Seconds of a frame: a clip of N frames lasts (N - 1) / rate. */
  seconds(frame = this.frame): number {
    return frame / this.rate
  }

  /** `00:03.575`. */
  timecode(frame = this.frame): string {
    const s = this.seconds(frame)
    const minutes = Math.floor(s / 60)
    return `${String(minutes).padStart(2, '0')}:${(s - 60 * minutes).toFixed(3).padStart(6, '0')}`
  }

  seek(frame: number): void {
    this.frame = Math.min(Math.max(Math.round(frame), 0), this.frames - 1)
    this.restart()
    this.tell()
  }

  /** To a frame, and rest there. */
  goTo(frame: number): void {
    this.pause()
    this.seek(frame)
  }

  step(by: number): void {
    this.pause()
    this.seek(this.frame + by)
  }

  setRange(first: number, last: number): void {
    const a = Math.min(Math.max(Math.round(Math.min(first, last)), 0), this.frames - 1)
    const b = Math.min(Math.max(Math.round(Math.max(first, last)), 0), this.frames - 1)
    this.range = [a, b]
    this.restart()
    this.tell()
  }

  setSpeed(speed: number): void {
    this.speed = speed
    this.restart()
    this.tell()
  }

  setLoop(loop: boolean): void {
    this.loop = loop
    this.tell()
  }

  toggle(): void {
    if (this.playing) this.pause()
    else this.play()
  }

  play(): void {
    const [first, last] = this.range
    if (this.frame < first || this.frame >= last) this.frame = first
    this.playing = true
    this.restart()
    this.handle = requestAnimationFrame(this.tick)
    this.tell()
  }

  pause(): void {
    if (!this.playing) return
    this.playing = false
    cancelAnimationFrame(this.handle)
    this.tell()
  }

  private restart(): void {
    this.origin = this.frame
    this.began = performance.now()
  }

  /** The frame that true time asks for at `now`, and whether the range has ended. */
  frameAt(now: number): { frame: number; ended: boolean } {
    const [first, last] = this.range
    const length = last - first + 1
    // A picture may be told the time at which it was due, before it all began.
    const passed = Math.max(now - this.began, 0) / 1000
    const at = this.origin + passed * this.rate * this.speed
    if (at < last + 1) return { frame: Math.floor(at), ended: false }
    if (!this.loop) return { frame: last, ended: true }
    return { frame: first + Math.floor((at - first) % length), ended: false }
  }

  private tick = (now: number): void => {
    if (!this.playing) return
    const { frame, ended } = this.frameAt(now)
    if (ended) {
      this.frame = frame
      this.pause()
      return
    }
    if (frame !== this.frame) {
      this.frame = frame
      this.tell()
    }
    this.handle = requestAnimationFrame(this.tick)
  }
}

export const transport = new Transport()
