/** The tokens as canvas and WebGL need them. */

const known = new Map<string, string>()
const listeners = new Set<() => void>()

// Reading a computed style costs more than drawing a curve: once a theme is enough.
new MutationObserver(() => {
  known.clear()
  for (const listener of listeners) listener()
}).observe(document.documentElement, { attributeFilter: ['data-theme'] })

export function token(name: string): string {
  let value = known.get(name)
  if (value === undefined) {
    value = getComputedStyle(document.documentElement).getPropertyValue(`--${name}`).trim()
    if (value) known.set(name, value)
  }
  return value
}

/** Calls `listener` when the theme changes. Returns how to stop. */
export function onTheme(listener: () => void): () => void {
  listeners.add(listener)
  return () => listeners.delete(listener)
}
