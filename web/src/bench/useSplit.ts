/** A pane's size, dragged by its edge or moved by arrow keys, and remembered. */
import { type HTMLAttributes, useState } from 'react'
import { prefer, useSession } from '../session/session'

interface Pane {
  /** Its name in the preferences. */
  name: string
  label: string
  /** Where nothing has been chosen. */
  initial: number
  least: number
  most: number
  /** Which way the edge is dragged, and whether that way makes the pane larger. */
  axis: 'x' | 'y'
  grows: 1 | -1
}

/** Its size, and what its edge is. A double press on the edge puts it back. */
export function useSplit(pane: Pane): [number, HTMLAttributes<HTMLDivElement>] {
  const { name, label, initial, least, most, axis, grows } = pane
  const kept = useSession((s) => s.preferences.panes[name])
  const [dragged, setDragged] = useState<number | null>(null)
  const bounded = (size: number) => Math.round(Math.min(Math.max(size, least), most))
  const size = bounded(dragged ?? kept ?? initial)
  const keep = (next: number | null) => {
    const { [name]: _, ...panes } = useSession.getState().preferences.panes
    prefer({ panes: next === null ? panes : { ...panes, [name]: bounded(next) } })
  }
  const [back, forth] = axis === 'x' ? ['ArrowLeft', 'ArrowRight'] : ['ArrowUp', 'ArrowDown']
  return [
    size,
    {
      role: 'separator',
      tabIndex: 0,
      'aria-label': label,
      'aria-orientation': axis === 'x' ? 'vertical' : 'horizontal',
      'aria-valuenow': size,
      'aria-valuemin': least,
      'aria-valuemax': most,
      title: 'Drag; a double press puts it back',
      className: `relative z-10 shrink-0 hover:bg-rule-2 ${axis === 'x' ? '-ml-1 w-1 cursor-col-resize' : '-mt-1 h-1 cursor-row-resize'}`,
      onPointerDown: (down) => {
        down.currentTarget.setPointerCapture(down.pointerId)
        setDragged(size)
      },
      onPointerMove: (move) => {
        const by = axis === 'x' ? move.movementX : move.movementY
        if (dragged !== null) setDragged(dragged + grows * by)
      },
      onPointerUp: () => {
        if (dragged !== null && size !== bounded(kept ?? initial)) keep(dragged)
        setDragged(null)
      },
      onDoubleClick: () => keep(null),
      onKeyDown: (event) => {
        const by = { [back!]: -16, [forth!]: 16 }[event.key]
        if (!by) return
        event.preventDefault()
        keep(size + grows * by)
      },
    },
  ]
}
