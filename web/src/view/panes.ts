/** The panes of curves and keys that are on the bench: the one that came last is worked in. */
interface Pane {
  /** Show what is around now. */
  aroundNow: () => void
}

const panes: Pane[] = []

/** A pane is there, until what is returned is called. */
export function showPane(pane: Pane): () => void {
  panes.push(pane)
  return () => void panes.splice(panes.indexOf(pane), 1)
}

export const aroundNow = (): void => panes.at(-1)?.aroundNow()
