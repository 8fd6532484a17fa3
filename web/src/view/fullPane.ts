/** Stage or curve sheet alone, the other hidden: a choice that is remembered. */
import { prefer, useSession } from '../session/session'

export const FULL = { none: 0, stage: 1, sheet: 2 } as const

export const useFullPane = (): number => useSession((s) => s.preferences.panes.full ?? FULL.none)

/** Give a pane all the room, or share it again. */
export function toggleFull(pane: 'stage' | 'sheet'): void {
  const { panes } = useSession.getState().preferences
  prefer({ panes: { ...panes, full: panes.full === FULL[pane] ? FULL.none : FULL[pane] } })
}
