/** Marks: named points and spans in time, each change an edit of the clip. */

import type { Mark } from '../evaluation/model'
import { apply } from '../sync/write'
import { useBench } from '../view/bench'
import { transport } from '../view/transport'

const edit = (change: object): void => void apply('edit_marks', { edits: [change] })

export function moveMark(mark: Mark, first: number, last: number): void {
  const { name } = mark
  edit({ do: 'set', name, first: mark.first, new_first: first, new_last: last })
}

export const renameMark = (mark: Mark, name: string): void =>
  edit({ do: 'set', name: mark.name, first: mark.first, new_name: name })

export const removeMark = (mark: Mark): void =>
  edit({ do: 'remove', name: mark.name, first: mark.first })

/** A name that no mark has yet. */
function fresh(): string {
  const names = new Set(useBench.getState().clip?.marks.map((m) => m.name))
  let n = 1
  while (names.has(`mark ${n}`)) n++
  return `mark ${n}`
}

export const markNow = (): void => edit({ do: 'add', name: fresh(), first: transport.frame })

export function markRange(): void {
  const [first, last] = transport.range
  edit({ do: 'add', name: fresh(), first, last })
}

/** To the next mark, or the one before. */
export function toMark(direction: -1 | 1): void {
  const firsts = (useBench.getState().clip?.marks ?? []).map((m) => m.first)
  const now = transport.frame
  const frame = direction > 0 ? firsts.find((f) => f > now) : firsts.findLast((f) => f < now)
  if (frame === undefined) return
  transport.goTo(frame)
}
