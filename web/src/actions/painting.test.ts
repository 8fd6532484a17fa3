import { describe, expect, it } from 'vitest'
import { withSpan } from './painting'

const span = (first: number, last: number, group = 'left arm', share = 0.25) => ({
  group,
  first,
  last,
  share,
})

describe('painted spans', () => {
  it('become one where they meet', () => {
    expect(withSpan([span(10, 20), span(40, 50)], span(18, 39))).toEqual([span(10, 50)])
    expect(withSpan([span(10, 20)], span(30, 40))).toEqual([span(10, 20), span(30, 40)])
  })

  it('stay apart for other parts and other shares', () => {
    const others = [span(10, 20, 'right arm'), span(10, 20, 'left arm', 0.5)]
    expect(withSpan(others, span(15, 25))).toEqual([...others, span(15, 25)])
  })
})
