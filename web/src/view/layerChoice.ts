/** Which layer takes keys, what new keys come with, and what of it the curve sheet shows. */
import { create } from 'zustand'
import type { Curve } from '../evaluation/curves'
import type { Clip } from '../evaluation/model'

/** How a correction comes from nothing and goes back to it, in frames; null where it stays. */
export interface Ramps {
  ramp_in: number | null
  hold: number | null
  ramp_out: number | null
}

/** Curves of the selected joints: the layer's or the clip's own, with or without the result of all
 * as a ghost. */
export const SHOWN = {
  layer: 'layer curves',
  'layer result': 'layer curves, result ghosted',
  own: 'clip curves',
  'own result': 'clip curves, result ghosted',
} as const
export type Shown = keyof typeof SHOWN

interface Choice {
  /** A layer's id; null for the clip's own curves. */
  chosen: number | null
  ramps: Ramps
  shown: Shown
  /** Layers that are seen alone, by id; all where none is named. Whoever looks chooses it: the clip
   * and what is delivered stay as they are. */
  solo: readonly number[]
  /** Flattening and merging write keys where there were some, not a value on every frame. */
  keyed: boolean
  /** What all layers and plants make of the selected joints' channels, on frames. */
  result: Curve[]
}

export const NO_RAMPS: Ramps = { ramp_in: null, hold: null, ramp_out: null }

export const useLayers = create<Choice>(() => ({
  chosen: null,
  ramps: NO_RAMPS,
  shown: 'layer',
  solo: [],
  keyed: true,
  result: [],
}))

/** The clip as it is seen: with the layers that are seen alone, all others as if they were muted. */
export function seen(clip: Clip): Clip {
  const { solo } = useLayers.getState()
  if (!solo.length) return clip
  const layers = clip.layers.map((x) => (solo.includes(x.id) ? x : { ...x, muted: true }))
  return { ...clip, layers }
}

/** As an address names the layers that are seen alone. */
export const soloNamed = (): string | undefined => useLayers.getState().solo.join(',') || undefined
