/** The brush in hand: its kind, radius in frames, strength, and what pull moves. */
import { create } from 'zustand'
import type { BrushKind } from '../evaluation/brush'

export const useBrush = create<{
  kind: BrushKind | null
  radius: number
  strength: number
  axis: 'value' | 'time' | 'both'
}>(() => ({ kind: null, radius: 15, strength: 1, axis: 'value' }))

const { getState: get, setState: set } = useBrush

/** Take a brush up, or put it down if it is in hand. */
export const takeBrush = (kind: BrushKind | null): void =>
  set({ kind: kind !== null && get().kind === kind ? null : kind })

export const setRadius = (radius: number): void =>
  set({ radius: Math.min(Math.max(Math.round(radius), 2), 600) })

export const setStrength = (strength: number): void =>
  set({ strength: Math.min(Math.max(Math.round(strength * 20) / 20, 0.05), 1) })
