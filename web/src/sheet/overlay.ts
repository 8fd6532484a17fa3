/** What lies over the curves: now, what is not keyed or found no key, the scale box, a brush's reach. */
import { unkeyedNow } from '../actions/posing'
import { fallOff } from '../evaluation/brush'
import type { ChannelKey } from '../evaluation/curves'
import { type Box, timeToX, type View, valueToY, xToTime } from '../ui/geometry'
import { token } from '../ui/theme'
import { transport } from '../view/transport'
import { useViewing } from '../view/viewing'
import { GRIPS } from './handles'
import { type Places, placeOf } from './painter'

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

/** The line of now, with its foot on the ruler that lies so far down. */
export function paintNow(g: CanvasRenderingContext2D, view: View, box: Box, ruler: number): void {
  const x = timeToX(view, box, transport.frame)
  if (x < box.left - 1 || x > box.left + box.width + 1) return
  g.fillStyle = token('signal')
  g.fillRect(x - 0.75, 0, 1.5, ruler)
  g.beginPath()
  g.moveTo(x - 6, ruler + 6)
  g.lineTo(x + 6, ruler + 6)
  g.lineTo(x, ruler - 2)
  g.fill()
}

/** Selected keys that the view does not show: how many, at the edge beyond which they are; told
 * back in words. */
export function paintOutside(
  g: CanvasRenderingContext2D,
  places: Places,
  all: Box,
  selected: ReadonlyMap<ChannelKey, ReadonlySet<number>>,
): string {
  const beyond = { '←': 0, '→': 0, '↑': 0, '↓': 0 }
  for (const [key, ids] of selected) {
    const curve = places.curves.get(key)
    if (curve?.kind !== 'keyed' || !places.channels.includes(key)) continue
    const { view, box } = placeOf(places, all, key)
    for (let k = 0; k < curve.time.length; k++) {
      if (!ids.has(Number(curve.id[k]))) continue
      const x = timeToX(view, box, curve.time[k]!)
      const y = valueToY(view, box, curve.value[k]!)
      if (x < box.left) beyond['←']++
      else if (x > box.left + box.width) beyond['→']++
      else if (y < box.top) beyond['↑']++
      else if (y > box.top + box.height) beyond['↓']++
    }
  }
  const [right, bottom] = [all.left + all.width, all.top + all.height]
  const middle = [all.left + all.width / 2, all.top + all.height / 2] as const
  const at = {
    '←': [all.left + 4, middle[1], 'left'],
    '→': [right - 4, middle[1], 'right'],
    '↑': [middle[0], all.top + 8, 'center'],
    '↓': [middle[0], bottom - 8, 'center'],
  } as const
  g.font = '600 12px "IBM Plex Mono"'
  g.textBaseline = 'middle'
  for (const [arrow, count] of Object.entries(beyond) as [keyof typeof at, number][]) {
    if (!count) continue
    const [x, y, align] = at[arrow]
    g.textAlign = align
    const text = arrow === '→' ? `${count} ${arrow}` : `${arrow} ${count}`
    const wide = g.measureText(text).width + 8
    g.fillStyle = token('ink')
    const left = align === 'left' ? x - 4 : align === 'right' ? x - wide + 4 : x - wide / 2
    g.fillRect(left, y - 9, wide, 18)
    g.fillStyle = token('raised')
    g.fillText(text, x, y)
  }
  return Object.entries(beyond)
    .filter(([, count]) => count)
    .map(([arrow, count]) => `${arrow} ${count}`)
    .join(' ')
}

/** What has been posed on the stage and is not keyed: an open mark where its key would be. */
export function paintUnkeyed(g: CanvasRenderingContext2D, places: Places, all: Box): void {
  const found = unkeyedNow()
  if (!found) return
  g.strokeStyle = token('signal')
  g.lineWidth = 2
  for (const [key, value] of found.values) {
    if (!places.channels.includes(key)) continue
    const { view, box } = placeOf(places, all, key)
    g.beginPath()
    g.arc(timeToX(view, box, found.frame), valueToY(view, box, value), 5, 0, 7)
    g.stroke()
  }
}

/** An edit that found no key: a cross where its key was. */
export function paintLost(g: CanvasRenderingContext2D, places: Places, all: Box): void {
  const { lost } = useViewing.getState()
  if (!lost || !places.channels.includes(lost.key)) return
  const { view, box } = placeOf(places, all, lost.key)
  const [x, y] = [timeToX(view, box, lost.frame), valueToY(view, box, lost.value)]
  g.strokeStyle = token('bad')
  g.lineWidth = 2
  g.beginPath()
  g.moveTo(x - 5, y - 5)
  g.lineTo(x + 5, y + 5)
  g.moveTo(x + 5, y - 5)
  g.lineTo(x - 5, y + 5)
  g.stroke()
}
