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
  /** Whether a loop goes on from where its last round ended, and the round that is shown. */
  onward = false
  round = 0
  speed = 1
  range: [number, number] = [0, 0]
  frames = 1
  rate = 30
  private listeners = new Set<Listener>()
  private origin = 0
  private began = 0
  /** Rounds gone when the clock was set. */
  private rounds = 0
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

  /** As much longer or shorter as what is previewed; the range goes along where it is all of it. */
  lengthen(frames: number): void {
    if (frames === this.frames) return
    const { partial } = this
    this.frames = frames
    const last = Math.max(0, frames - 1)
    this.range = partial
      ? [Math.min(this.range[0], last), Math.min(this.range[1], last)]
      : [0, last]
    this.frame = Math.min(this.frame, last)
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
    this.restart(this.round)
    this.tell()
  }

  setLoop(loop: boolean): void {
    this.loop = loop
    this.tell()
  }

  /** In rounds that go on the last frame is the next round's first. */
  setOnward(onward: boolean): void {
    this.onward = onward
    this.restart()
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

  private restart(round = 0): void {
    this.round = this.rounds = round
    this.origin = this.frame
    this.began = performance.now()
  }

  /** The frame that true time asks for at `now`, in which round, and whether the range has ended. */
  frameAt(now: number): { frame: number; round: number; ended: boolean } {
    const [first, last] = this.range
    const onward = this.onward && this.loop && last > first
    const length = last - first + (onward ? 0 : 1)
    // A picture may be told the time at which it was due, before it all began.
    const passed = Math.max(now - this.began, 0) / 1000
    const at = this.origin + passed * this.rate * this.speed
    const round = this.rounds
    if (at < first + length) return { frame: Math.floor(at), round, ended: false }
    if (!this.loop) return { frame: last, round, ended: true }
    return {
      frame: first + Math.floor((at - first) % length),
      round: round + (onward ? Math.floor((at - first) / length) : 0),
      ended: false,
    }
  }

  private tick = (now: number): void => {
    if (!this.playing) return
    const { frame, round, ended } = this.frameAt(now)
    if (ended) {
      this.frame = frame
      this.pause()
      return
    }
    if (frame !== this.frame || round !== this.round) {
      this.frame = frame
      this.round = round
      this.tell()
    }
    this.handle = requestAnimationFrame(this.tick)
  }
}

export const transport = new Transport()
