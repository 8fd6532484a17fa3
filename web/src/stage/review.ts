/** Review: the range played full-window at true speed, overlays off, and pictures of it to keep. */
import { create } from 'zustand'
import { token } from '../ui/theme'
import { notify, useBench } from '../view/bench'
import { transport } from '../view/transport'
import type { Stage } from './Stage'

export const useReview = create<{ on: boolean }>(() => ({ on: false }))

let speed = 1

export function review(on: boolean): void {
  if (on === useReview.getState().on) return
  useReview.setState({ on })
  if (on) {
    // True speed, whatever was set before; that comes back afterwards.
    speed = transport.speed
    transport.setSpeed(1)
    transport.seek(transport.range[0])
    transport.play()
  } else {
    transport.pause()
    transport.setSpeed(speed)
  }
}

const [WIDE, TALL] = [1920, 1080]
/** Pictures of a strip: so many in a row, each so large. */
const [ROW, CELL] = [6, 320]
const CAPTION = 26

function save(canvas: HTMLCanvasElement, name: string): void {
  canvas.toBlob((blob) => {
    if (!blob) {
      notify('The picture could not be made: the browser gave none.')
      return
    }
    const link = document.createElement('a')
    link.href = URL.createObjectURL(blob)
    link.download = `${name}.png`
    link.click()
    URL.revokeObjectURL(link.href)
  }, 'image/png')
}

const clipName = () => useBench.getState().clip!.name

export function saveStill(stage: Stage): void {
  stage.setPlain(true)
  save(stage.picture(transport.frame, WIDE, TALL), `${clipName()}, frame ${transport.frame}`)
  stage.setPlain(useReview.getState().on)
}

/** Frames of a strip of poses: evenly over the range, both ends among them. */
export function framesOf(first: number, last: number, count: number): number[] {
  const most = Math.min(count, last - first + 1)
  if (most < 2) return [first]
  return Array.from({ length: most }, (_, k) =>
    Math.round(first + ((last - first) * k) / (most - 1)),
  )
}

/** Poses of the range side by side, numbered, each with its frame and its time. */
export function saveStrip(stage: Stage, count: number): void {
  const [first, last] = transport.range
  const frames = framesOf(first, last, count)
  const columns = Math.min(ROW, frames.length)
  const rows = Math.ceil(frames.length / columns)
  const out = document.createElement('canvas')
  out.width = columns * CELL
  out.height = rows * (CELL + CAPTION)
  const g = out.getContext('2d')!
  g.fillStyle = token('paper')
  g.fillRect(0, 0, out.width, out.height)
  stage.setPlain(true)
  frames.forEach((frame, k) => {
    const x = (k % columns) * CELL
    const y = Math.floor(k / columns) * (CELL + CAPTION)
    g.drawImage(stage.picture(frame, CELL, CELL), x, y)
    g.strokeStyle = token('rule-2')
    g.strokeRect(x + 0.5, y + 0.5, CELL - 1, CELL + CAPTION - 1)
    g.textBaseline = 'middle'
    g.fillStyle = token('ink')
    g.font = '600 15px "IBM Plex Mono"'
    g.fillText(String(k + 1), x + 10, y + CELL + CAPTION / 2)
    g.fillStyle = token('ink-2')
    g.font = '13px "IBM Plex Mono"'
    g.textAlign = 'right'
    g.fillText(
      `frame ${frame} · ${transport.timecode(frame)}`,
      x + CELL - 10,
      y + CELL + CAPTION / 2,
    )
    g.textAlign = 'left'
  })
  stage.setPlain(useReview.getState().on)
  save(out, `${clipName()}, frames ${first} to ${last}`)
}
