/** Asking again while the server says that it is busy: for as long as the answer is wanted. */
import { create } from 'zustand'

/** How many requests are waiting to be asked again. */
export const useBusy = create<{ waiting: number }>(() => ({ waiting: 0 }))

/** Asks that often at the most; what the server says then is the answer. */
export const MOST_TRIES = 40

/** Resolves after some seconds; rejects as `fetch` does once the answer is not wanted any more. */
function pause(seconds: number, signal: AbortSignal | null | undefined): Promise<void> {
  return new Promise((done, fail) => {
    const stop = () => {
      clearTimeout(timer)
      fail(new DOMException('Aborted', 'AbortError'))
    }
    const timer = setTimeout(() => {
      signal?.removeEventListener('abort', stop)
      done()
    }, seconds * 1000)
    if (signal?.aborted) stop()
    else signal?.addEventListener('abort', stop, { once: true })
  })
}

/** `fetch`, which asks again where the answer is 503 and says when (RFC 9110, Retry-After). */
export async function patientFetch(...[what, init]: Parameters<typeof fetch>): Promise<Response> {
  const signal = init?.signal ?? (what instanceof Request ? what.signal : null)
  for (let tries = 1; ; tries++) {
    const response = await fetch(what instanceof Request ? what.clone() : what, init)
    const seconds = response.status === 503 ? Number(response.headers.get('Retry-After')) : 0
    if (!(seconds > 0) || tries >= MOST_TRIES) return response
    useBusy.setState((s) => ({ waiting: s.waiting + 1 }))
    try {
      // Not all at the same moment.
      await pause(seconds * (0.75 + Math.random() / 2), signal)
    } finally {
      useBusy.setState((s) => ({ waiting: s.waiting - 1 }))
    }
  }
}
