/** What is awaited, said on the page: before the count is nothing, nothing is at rest. */

let asking = 0

/** Say on the page that something is awaited, until what is returned is called. */
export function awaiting(): () => void {
  const say = (more: 1 | -1) => {
    asking += more
    document.documentElement.dataset.asking = String(asking)
  }
  say(1)
  return () => say(-1)
}

/** Work that waits until nothing has asked for it for a moment (ms), and is awaited meanwhile. */
export function debounced(work: () => void, rest: number) {
  let timer: ReturnType<typeof setTimeout> | undefined
  let done: (() => void) | null = null
  const off = () => {
    clearTimeout(timer)
    done?.()
    done = null
  }
  const now = () => {
    // What it asks for is awaited before the waiting for it ends.
    clearTimeout(timer)
    work()
    off()
  }
  return {
    soon: () => {
      clearTimeout(timer)
      done ??= awaiting()
      timer = setTimeout(now, rest)
    },
    now,
    off,
  }
}
