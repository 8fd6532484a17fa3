/** A pane's height, dragged by its edge or moved by arrow keys, and remembered. */
import { type HTMLAttributes, useState } from 'react'
import { prefer, useSession } from '../session/session'

export function useSplit(
  name: string,
  initial: number,
  least: number,
  most: number,
): [number, HTMLAttributes<HTMLDivElement>] {
  const kept = useSession((s) => s.preferences.panes[name])
  const [dragged, setDragged] = useState<number | null>(null)
  const height = dragged ?? kept ?? initial
  const bounded = (h: number) =>
    Math.min(Math.max(h, least), Math.min(most, window.innerHeight - 300))
  const keep = (h: number) => {
    const panes = { ...useSession.getState().preferences.panes, [name]: bounded(h) }
    prefer({ panes })
  }
  return [
    bounded(height),
    {
      role: 'separator',
      tabIndex: 0,
      'aria-label': 'Height of the curve sheet',
      'aria-orientation': 'horizontal',
      'aria-valuenow': Math.round(height),
      'aria-valuemin': least,
      'aria-valuemax': most,
      className: '-mt-1 relative z-10 h-1 shrink-0 cursor-row-resize hover:bg-rule-2',
      onPointerDown: (down) => {
        down.currentTarget.setPointerCapture(down.pointerId)
        setDragged(height)
      },
      onPointerMove: (move) => {
        if (dragged !== null) setDragged(bounded(dragged - move.movementY))
      },
      onPointerUp: () => {
        if (dragged !== null) keep(dragged)
        setDragged(null)
      },
      onKeyDown: (event) => {
        const by = { ArrowUp: 16, ArrowDown: -16 }[event.key]
        if (!by) return
        event.preventDefault()
        keep(height + by)
      },
    },
  ]
}
