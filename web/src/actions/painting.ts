/** Painting on the curve sheet where thinning keeps closer to the take. */
import { create } from 'zustand'
import { useBench } from '../view/bench'
import type { ThinParams } from './thinning'

interface Painting {
  on: boolean
  /** Share of the tolerance that is left where one paints. */
  share: number
  /** The span painted last: the panel takes it up. */
  painted: { first: number; last: number } | null
}

export const usePainting = create<Painting>(() => ({ on: false, share: 0.25, painted: null }))

/** The part of the body that is painted for: the one of the first selected joint. */
export function paintedGroup(): string | null {
  const { body, joints } = useBench.getState()
  const joint = joints[0]
  if (!body || joint === undefined) return null
  return Object.entries(body.groups).find(([, own]) => own.includes(joint))?.[0] ?? null
}

type Tighter = ThinParams['tighter']

/** Spans with one more; those of one part and share that it meets become one with it. */
export function withSpan(spans: Tighter, added: Tighter[number]): Tighter {
  const meets = (t: Tighter[number]) =>
    t.group === added.group &&
    t.share === added.share &&
    t.first <= added.last + 1 &&
    added.first <= t.last + 1
  const met = [added, ...spans.filter(meets)]
  const whole = {
    ...added,
    first: Math.min(...met.map((t) => t.first)),
    last: Math.max(...met.map((t) => t.last)),
  }
  return [...spans.filter((t) => !meets(t)), whole]
}
