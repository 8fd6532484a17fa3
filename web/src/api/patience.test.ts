import { afterEach, beforeEach, expect, test, vi } from 'vitest'
import { MOST_TRIES, patientFetch, useBusy } from './patience'

const busy = () => new Response('{}', { status: 503, headers: { 'Retry-After': '1' } })

beforeEach(() => void vi.useFakeTimers())
afterEach(() => {
  vi.useRealTimers()
  vi.unstubAllGlobals()
})

test('a busy server is asked again until it answers, and one sees that it is busy', async () => {
  const answers = [busy(), busy(), new Response('done')]
  const fetching = vi.fn(async () => answers.shift()!)
  vi.stubGlobal('fetch', fetching)
  const got = patientFetch('/api/clips/1/findings')
  await vi.advanceTimersByTimeAsync(100)
  expect(useBusy.getState().waiting).toBe(1)
  await vi.advanceTimersByTimeAsync(3000)
  expect(await (await got).text()).toBe('done')
  expect(fetching).toHaveBeenCalledTimes(3)
  expect(useBusy.getState().waiting).toBe(0)
})

test('a request with a body is sent whole each time', async () => {
  const bodies: string[] = []
  const fetching = vi.fn(async (what: Request) => {
    bodies.push(await what.text())
    return bodies.length < 3 ? busy() : new Response('done')
  })
  vi.stubGlobal('fetch', fetching)
  const got = patientFetch(new Request('http://here/api', { method: 'POST', body: 'all of it' }))
  await vi.advanceTimersByTimeAsync(5000)
  await got
  expect(bodies).toEqual(['all of it', 'all of it', 'all of it'])
})

test('nobody asks again for what is not wanted any more, or without end', async () => {
  const fetching = vi.fn(async () => busy())
  vi.stubGlobal('fetch', fetching)
  const wanted = new AbortController()
  const got = patientFetch('/api', { signal: wanted.signal }).catch((e: unknown) => e)
  await vi.advanceTimersByTimeAsync(100)
  wanted.abort()
  expect(((await got) as DOMException).name).toBe('AbortError')
  expect(fetching).toHaveBeenCalledTimes(1)
  const endless = patientFetch('/api')
  await vi.advanceTimersByTimeAsync(2000 * MOST_TRIES)
  expect((await endless).status).toBe(503)
  expect(fetching).toHaveBeenCalledTimes(1 + MOST_TRIES)
})

test('what is out of order without a time to come again is the answer', async () => {
  vi.stubGlobal('fetch', async () => new Response('{}', { status: 503 }))
  expect((await patientFetch('/api')).status).toBe(503)
})
