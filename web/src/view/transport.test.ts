import { describe, expect, it, vi } from 'vitest'
import { Transport } from './transport'

function fitted(frames = 300, rate = 30): Transport {
  const transport = new Transport()
  transport.fit(frames, rate)
  return transport
}

describe('the transport', () => {
  it('a clip of N frames lasts (N - 1) / rate', () => {
    const transport = fitted()
    transport.seek(299)
    expect(transport.seconds()).toBeCloseTo(299 / 30)
    expect(transport.timecode()).toBe('00:09.967')
    expect(transport.timecode(30 * 75)).toBe('01:15.000')
  })

  it('stays within the clip and on whole frames', () => {
    const transport = fitted()
    transport.seek(-5)
    expect(transport.frame).toBe(0)
    transport.seek(1000)
    expect(transport.frame).toBe(299)
    transport.seek(10.6)
    expect(transport.frame).toBe(11)
  })

  it('plays by true time: a late picture skips, it never slows', () => {
    vi.spyOn(performance, 'now').mockReturnValue(1000)
    const transport = fitted()
    transport.seek(20)
    expect(transport.frameAt(1000).frame).toBe(20)
    expect(transport.frameAt(1500).frame).toBe(35)
    expect(transport.frameAt(9000).frame).toBe(260)
    transport.setSpeed(0.5)
    expect(transport.frameAt(2000).frame).toBe(35)
    vi.restoreAllMocks()
  })

  it('shows nothing from before it began, though a picture is told an earlier time', () => {
    // A picture that was due before the key was pressed is told the time when it was due.
    vi.spyOn(performance, 'now').mockReturnValue(1000)
    const transport = fitted()
    transport.setRange(50, 60)
    transport.seek(50)
    expect(transport.frameAt(960).frame).toBe(50)
    vi.restoreAllMocks()
  })

  it('is off by less than a frame after 30 s, also at odd rates', () => {
    vi.spyOn(performance, 'now').mockReturnValue(0)
    const transport = fitted(2000, 30000 / 1001)
    expect(Math.abs(transport.frameAt(30_000).frame - (30 * 30000) / 1001)).toBeLessThan(1)
    vi.restoreAllMocks()
  })

  it('counts the rounds of a loop that goes on, whose last frame is the next one’s first', () => {
    const transport = fitted()
    transport.setRange(100, 110)
    transport.seek(100)
    transport.setOnward(true)
    const began = performance.now()
    const at = (frames: number) => transport.frameAt(began + (frames * 1000) / 30 + 1)
    expect(at(9)).toEqual({ frame: 109, round: 0, ended: false })
    expect(at(10)).toEqual({ frame: 100, round: 1, ended: false })
    expect(at(25)).toEqual({ frame: 105, round: 2, ended: false })
    transport.setOnward(false)
    expect(transport.frameAt(performance.now() + 10_500 / 30).round).toBe(0)
  })

  it('loops within its range, or ends at its last frame', () => {
    vi.spyOn(performance, 'now').mockReturnValue(0)
    const transport = fitted()
    transport.setRange(100, 109)
    transport.seek(100)
    expect(transport.frameAt(1000).frame).toBe(100)
    expect(transport.frameAt(1300).frame).toBe(109)
    transport.setLoop(false)
    expect(transport.frameAt(1300)).toEqual({ frame: 109, round: 0, ended: true })
    vi.restoreAllMocks()
  })

  it('orders and bounds a range given the wrong way round', () => {
    const transport = fitted()
    transport.setRange(400, -3)
    expect(transport.range).toEqual([0, 299])
  })

  it('tells those who listen, until they stop', () => {
    const transport = fitted()
    const listener = vi.fn()
    const stop = transport.subscribe(listener)
    transport.seek(4)
    stop()
    transport.seek(5)
    expect(listener).toHaveBeenCalledTimes(1)
  })
})
