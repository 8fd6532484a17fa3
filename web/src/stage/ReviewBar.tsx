/** What is under a review: play, where one is, pictures to keep, and the way back. */
import { Camera, Film, Pause, Play, X } from 'lucide-react'
import { useEffect, useRef, useState, useSyncExternalStore } from 'react'
import { Button, NumberInput } from '../ui/controls'
import { transport } from '../view/transport'
import { stageRef } from './refs'
import { review, saveStill, saveStrip } from './review'

export function ReviewBar() {
  const playing = useSyncExternalStore(transport.subscribe, () => transport.playing)
  const [count, setCount] = useState(12)
  const now = useRef<HTMLSpanElement>(null)
  useEffect(() => {
    const show = () => {
      if (now.current)
        now.current.textContent = `frame ${transport.frame} · ${transport.timecode()}`
    }
    show()
    return transport.subscribe(show)
  }, [])
  const stage = () => stageRef.current
  return (
    <section
      aria-label="Review"
      className="absolute inset-x-0 bottom-0 flex h-11 items-center gap-2 border-rule-2 border-t bg-raised px-3"
    >
      <Button
        kind={playing ? 'on' : 'plain'}
        className="h-7 w-[78px]"
        onClick={() => transport.toggle()}
      >
        {playing ? <Pause size={13} /> : <Play size={13} />}
        {playing ? 'Pause' : 'Play'}
      </Button>
      <span ref={now} data-testid="review-now" className="num w-56" />
      <span className="text-ink-2">
        range {transport.range.join(' – ')}, true speed, {Number(transport.rate.toFixed(3))} frames
        a second
      </span>
      <span className="flex-1" />
      <Button
        className="h-7"
        onClick={() => {
          const shown = stage()
          if (shown) saveStill(shown)
        }}
      >
        <Camera size={13} /> Save a still
      </Button>
      <Button
        className="h-7"
        onClick={() => {
          const shown = stage()
          if (shown) saveStrip(shown, count)
        }}
      >
        <Film size={13} /> Save a strip
      </Button>
      <label className="flex items-center gap-1.5 text-ink-2">
        of
        <NumberInput
          label="Poses of the strip"
          value={count}
          className="w-12"
          onCommit={(v) => setCount(Math.min(Math.max(Math.round(v), 2), 60))}
        />
        poses
      </label>
      <Button className="h-7" onClick={() => review(false)}>
        <X size={13} /> Leave review
      </Button>
    </section>
  )
}
