import { describe, expect, it } from 'vitest'
import * as geometry from './geometry'

const box = { left: 50, top: 10, width: 400, height: 200 }
const view = { t0: 100, t1: 300, v0: -10, v1: 30 }

describe('the sheet’s geometry', () => {
  it('goes to pixels and back', () => {
    expect(geometry.timeToX(view, box, 200)).toBe(250)
    expect(geometry.xToTime(view, box, 250)).toBe(200)
    expect(geometry.valueToY(view, box, 30)).toBe(10)
    expect(geometry.yToValue(view, box, 210)).toBe(-10)
  })

  it('zooms about what is under the pointer', () => {
    const near = geometry.zoomTime(view, 0.5, 150)
    expect([near.t0, near.t1]).toEqual([125, 225])
    expect(geometry.timeToX(near, box, 150)).toBeCloseTo(geometry.timeToX(view, box, 150))
    const tall = geometry.zoomValue(view, 2, 0)
    expect([tall.v0, tall.v1]).toEqual([-20, 60])
    expect(tall.t0).toBe(view.t0)
  })

  it('never zooms to nothing', () => {
    let near = view
    for (let i = 0; i < 60; i++) near = geometry.zoomTime(near, 0.5, 200)
    expect(near.t1 - near.t0).toBeCloseTo(2)
  })

  it('pans both axes', () => {
    expect(geometry.pan(view, 5, -1)).toEqual({ t0: 105, t1: 305, v0: -11, v1: 29 })
  })

  it('ticks are round and within', () => {
    expect(geometry.ticks(-3, 11, 5)).toEqual([0, 5, 10])
    expect(geometry.ticks(0, 3, 10, true)).toEqual([0, 1, 2, 3])
    expect(geometry.ticks(-60, 60, 6)).toEqual([-60, -40, -20, 0, 20, 40, 60])
  })

  it('a flat or an empty channel still gets a view', () => {
    const [low, high] = geometry.padded(5, 5)
    expect(high - low).toBeCloseTo(1)
    expect(geometry.padded(Number.POSITIVE_INFINITY, Number.NEGATIVE_INFINITY)).toEqual([-1, 1])
  })

  it('bands share the height from top to bottom', () => {
    const first = geometry.band(box, 0, 4)
    const last = geometry.band(box, 3, 4)
    expect(first.top).toBeGreaterThanOrEqual(box.top)
    expect(last.top + last.height).toBeLessThanOrEqual(box.top + box.height)
    expect(first.height).toBeCloseTo(46)
  })

  it('columns keep every extreme and nothing outside', () => {
    const values = Float64Array.from({ length: 1000 }, (_, i) => (i === 777 ? 50 : i % 3))
    const out = new Float64Array(2 * 100)
    geometry.columns(values, 0, 999, 100, out)
    expect(Math.max(...out)).toBe(50)
    expect(Math.min(...out)).toBe(0)
    geometry.columns(values, 1500, 2000, 100, out)
    expect([...out].every(Number.isNaN)).toBe(true)
  })
})
