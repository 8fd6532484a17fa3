/** All pairs of frames of two clips: across those of what comes before, down those of the part, dark
 * where the bodies are close. Pressing it chooses a pair; the stage follows the pointer. */
import { type PointerEvent, useEffect, useRef, useState, useSyncExternalStore } from 'react'
import {
  lookAtPair,
  meet,
  type Pair,
  type Pairs,
  useJoining,
  wishedPair,
} from '../../actions/joining'
import { onTheme, token } from '../../ui/theme'

const HIGH = 190

/** Distances that are drawn darkest and lightest: the nearest, and what most are below. */
function ends(mm: Float32Array): [number, number] {
  const few = mm.filter((_, k) => k % 7 === 0).sort()
  return [few[0] ?? 0, Math.max(few[Math.floor(few.length * 0.9)] ?? 1, (few[0] ?? 0) + 1)]
}

function rgb(colour: string): [number, number, number] {
  const canvas = document.createElement('canvas')
  canvas.width = canvas.height = 1
  const g = canvas.getContext('2d')!
  g.fillStyle = colour
  g.fillRect(0, 0, 1, 1)
  const [r, v, b] = g.getImageData(0, 0, 1, 1).data
  return [r!, v!, b!]
}

const bright = ([r, g, b]: [number, number, number]) => r + g + b

/** The picture itself, a pixel a cell. */
function drawn({ mm, wide, high }: Pairs): HTMLCanvasElement {
  const out = document.createElement('canvas')
  out.width = wide
  out.height = high
  const g = out.getContext('2d')!
  const image = g.createImageData(wide, high)
  const [near, far] = ends(mm)
  // Dark means close in either theme.
  const inks = [rgb(token('ink')), rgb(token('paper'))].sort((a, b) => bright(a) - bright(b))
  const [dark, light] = inks as [[number, number, number], [number, number, number]]
  for (let k = 0; k < mm.length; k++) {
    const share = Math.min(Math.max((mm[k]! - near) / (far - near), 0), 1) ** 0.7
    for (let c = 0; c < 3; c++) image.data[4 * k + c] = dark[c]! + share * (light[c]! - dark[c]!)
    image.data[4 * k + 3] = 255
  }
  g.putImageData(image, 0, 0)
  return out
}

/** Called anew when the theme is another. */
let themes = 0
onTheme(() => themes++)
const useTheme = () => useSyncExternalStore(onTheme, () => themes)

export function PairsPicture({
  pairs,
  first,
  part,
}: {
  pairs: Pairs
  first: string
  part: string
}) {
  const canvas = useRef<HTMLCanvasElement>(null)
  const [picture, setPicture] = useState<HTMLCanvasElement | null>(null)
  const over = useJoining((s) => s.over)
  const parts = useJoining((s) => s.parts)
  const leave = useJoining((s) => s.leave)
  const theme = useTheme()
  // biome-ignore lint/correctness/useExhaustiveDependencies: drawn in the theme's inks
  useEffect(() => setPicture(drawn(pairs)), [pairs, theme])

  const columns = pairs.before.frames
  const rows = pairs.part.frames
  // biome-ignore lint/correctness/useExhaustiveDependencies: what is wished is drawn over it
  useEffect(() => {
    const element = canvas.current
    if (!element || !picture) return
    const wide = element.clientWidth
    const scale = Math.min(devicePixelRatio, 2)
    element.width = wide * scale
    element.height = HIGH * scale
    const g = element.getContext('2d')!
    g.scale(scale, scale)
    g.imageSmoothingEnabled = false
    g.drawImage(picture, 0, 0, wide, HIGH)
    const at = ({ leave: i, enter: j }: Pair): [number, number] => [
      ((i + 0.5) / columns) * wide,
      ((j + 0.5) / rows) * HIGH,
    ]
    g.lineWidth = 1
    g.font = 'bold 11px "IBM Plex Sans"'
    g.textBaseline = 'middle'
    pairs.best.forEach((best, k) => {
      const [x, y] = at(best)
      g.strokeStyle = g.fillStyle = token('signal')
      g.beginPath()
      g.arc(x, y, 4, 0, 7)
      g.stroke()
      g.textAlign = x > wide - 20 ? 'right' : 'left'
      g.fillText(String(k + 1), x + (x > wide - 20 ? -7 : 7), y)
    })
    const chosen = wishedPair(pairs.seam)
    for (const [pair, ink] of [
      [chosen, token('signal')],
      [over, token('ink-3')],
    ] as const) {
      if (!pair) continue
      const [x, y] = at(pair)
      g.strokeStyle = ink
      g.beginPath()
      g.moveTo(x, 0)
      g.lineTo(x, HIGH)
      g.moveTo(0, y)
      g.lineTo(wide, y)
      g.stroke()
    }
  }, [picture, pairs, over, parts, leave, columns, rows])

  const pairAt = (event: PointerEvent): Pair => {
    const box = canvas.current!.getBoundingClientRect()
    const frame = (share: number, count: number) =>
      Math.min(Math.max(Math.floor(share * count), 0), count - 1)
    return {
      leave: frame((event.clientX - box.left) / box.width, columns),
      enter: frame((event.clientY - box.top) / box.height, rows),
    }
  }
  const mm = over && mmAt(pairs, over)
  return (
    <figure className="flex flex-col gap-1">
      <figcaption className="flex justify-between text-ink-3">
        <span className="truncate">{first} →</span>
        <span className="num">0 – {columns - 1}</span>
      </figcaption>
      <canvas
        ref={canvas}
        role="img"
        aria-label={`All pairs of frames of ${first} and ${part}, dark where they are close`}
        data-testid="pairs"
        className="w-full cursor-crosshair rounded-[3px] border border-rule-2"
        style={{ height: HIGH }}
        onPointerMove={(event) => lookAtPair(pairAt(event))}
        onPointerLeave={() => lookAtPair(null)}
        onPointerDown={(event) => meet(pairs.seam, pairAt(event))}
      />
      <span className="flex justify-between text-ink-3">
        <span className="truncate">{part} ↓</span>
        <span className="num">0 – {rows - 1}</span>
      </span>
      <span className="num min-h-[1.4em]" role="status">
        {over && `${over.leave} to ${over.enter}: about ${mm!.toFixed(0)} mm apart`}
      </span>
    </figure>
  )
}

/** The distance of the cell that a pair lies in. */
function mmAt({ mm, wide, high, before, part }: Pairs, { leave, enter }: Pair): number {
  const cell = (frame: number, frames: number, cells: number) =>
    Math.min(Math.floor((frame * cells) / frames), cells - 1)
  const row = cell(enter, part.frames, high)
  return mm[row * wide + cell(leave, before.frames, wide)] ?? 0
}
