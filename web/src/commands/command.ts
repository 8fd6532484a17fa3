/** What the bench can be told to do. */
export interface Command {
  id: string
  title: string
  group: 'Time' | 'Stage' | 'Curve sheet' | 'Keys' | 'Steps' | 'Panels' | 'Clip' | 'Help'
  /** As `keyOf` writes it: modifiers, then the key; empty where it has none of its own. */
  key: string
  run: () => void
}

/** Give a field by its label the keyboard, and select what is in it. */
export const focus = (label: string) => {
  const input = document.querySelector<HTMLInputElement>(`[aria-label="${label}"]`)
  input?.focus()
  input?.select()
}
