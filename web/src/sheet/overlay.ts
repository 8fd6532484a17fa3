/** What lies over the curves: the scale box, and the brush's reach. */
import { fallOff } from '../clip/brush'
import { token } from '../ui/theme'
import { type Box, timeToX, type View, xToTime } from './geometry'
import { GRIPS } from './handles'

/** The scale box with its grips, and the pivot once it has been set. */
export function paintScaleBox(
  g: CanvasRenderingContext2D,
  area: Box,
  pivot: readonly [number, number] | null,
): void {
  const { left, top, width, height } = area
  g.strokeStyle = token('ink-3')
  g.lineWidth = 1
  g.setLineDash([2, 3])
  g.strokeRect(left + 0.5, top + 0.5, width, height)
  g.setLineDash([])
  g.fillStyle = token('raised')
  g.strokeStyle = token('ink-2')
  for (const { time, value } of GRIPS) {
    const x = left + ((time + 1) / 2) * width
    const y = top + ((1 - value) / 2) * height
    g.fillRect(x - 3, y - 3, 6, 6)
    g.strokeRect(x - 3, y - 3, 6, 6)
  }
  if (!pivot) return
  const [x, y] = pivot
  g.strokeStyle = token('signal')
  g.beginPath()
  g.arc(x, y, 5, 0, 7)
  g.moveTo(x - 9, y)
  g.lineTo(x + 9, y)
  g.moveTo(x, y - 9)
  g.lineTo(x, y + 9)
  g.stroke()
}

/** The brush's reach and fall-off about the pointer. */
export function paintReach(
  g: CanvasRenderingContext2D,
  view: View,
  box: Box,
  at: { x: number; y: number },
  { radius, strength }: { radius: number; strength: number },
): void {
  const middle = xToTime(view, box, at.x)
  const tall = Math.min(46, box.height / 3) * strength
  g.beginPath()
  for (let i = 0; i <= 40; i++) {
    const t = middle + ((i - 20) / 20) * radius
    g.lineTo(timeToX(view, box, t), at.y - tall * fallOff(t, middle, radius))
  }
  g.fillStyle = token('calm')
  g.globalAlpha = 0.14
  g.fill()
  g.globalAlpha = 1
  g.strokeStyle = token('calm')
  g.lineWidth = 1
  g.stroke()
}
