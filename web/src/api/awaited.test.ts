// @vitest-environment happy-dom
import { afterEach, beforeEach, expect, test, vi } from 'vitest'
import { awaiting, debounced } from './awaited'

const said = () => document.documentElement.dataset.asking

beforeEach(() => void vi.useFakeTimers())
afterEach(() => void vi.useRealTimers())

test('work waits until nothing has asked for it for a moment, and is awaited meanwhile', () => {
  const seen: (string | undefined)[] = []
  const writing = debounced(() => seen.push(said()), 100)
  writing.soon()
  vi.advanceTimersByTime(60)
  writing.soon()
  expect(said()).toBe('1')
  vi.advanceTimersByTime(60)
  expect(seen).toEqual([])
  vi.advanceTimersByTime(60)
  // What it asks for itself is awaited before the waiting for it ends.
  expect(seen).toEqual(['1'])
  expect(said()).toBe('0')
})

test('it is done at once where that is wanted, or not at all', () => {
  const work = vi.fn()
  const writing = debounced(work, 100)
  writing.soon()
  writing.now()
  expect(work).toHaveBeenCalledTimes(1)
  writing.soon()
  writing.off()
  vi.advanceTimersByTime(500)
  expect(work).toHaveBeenCalledTimes(1)
  expect(said()).toBe('0')
})

test('several things can be awaited at once', () => {
  const [one, other] = [awaiting(), awaiting()]
  one()
  expect(said()).toBe('1')
  other()
  expect(said()).toBe('0')
})
