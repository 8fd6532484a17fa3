/** Which keys are selected, and which channel the keyboard is on. */
import { create } from 'zustand'
import {
  BROKEN,
  type ChannelKey,
  type Curve,
  type KeyedCurve,
  MUTED,
  RIDING,
  splitKey,
} from '../evaluation/curves'
import { maskOf } from '../evaluation/keys'

export type Picked = ReadonlyMap<ChannelKey, ReadonlySet<number>>

export interface SelectionState {
  /** Ids of selected keys by channel; channels without any are left out. */
  keys: Picked
  /** The channel that key commands walk along. */
  current: ChannelKey | null
  /** About what a scale box scales: the opposite side where null. */
  pivot: { time: number | null; value: number | null }
}

export const NOTHING: Picked = new Map()

export const useSelection = create<SelectionState>(() => ({
  keys: NOTHING,
  current: null,
  pivot: { time: null, value: null },
}))

const { getState: get, setState: set } = useSelection

export function selectKeys(keys: Map<ChannelKey, Set<number>>): void {
  for (const [key, ids] of keys) if (!ids.size) keys.delete(key)
  const first = keys.keys().next().value as ChannelKey | undefined
  set({
    keys,
    current: first ?? get().current,
    ...(keys.size ? {} : { pivot: { time: null, value: null } }),
  })
}

export const clearKeys = (): void => {
  if (get().keys.size) selectKeys(new Map())
}

const grown = (): Map<ChannelKey, Set<number>> =>
  new Map([...get().keys].map(([k, ids]) => [k, new Set(ids)]))

export function addKeys(more: Iterable<[ChannelKey, Iterable<number>]>): void {
  const keys = grown()
  for (const [key, ids] of more) {
    const own = keys.get(key) ?? new Set<number>()
    for (const id of ids) own.add(id)
    keys.set(key, own)
  }
  selectKeys(keys)
}

export function toggleKey(key: ChannelKey, id: number): void {
  const keys = grown()
  const own = keys.get(key) ?? new Set<number>()
  if (!own.delete(id)) own.add(id)
  keys.set(key, own)
  selectKeys(keys)
}

/** Whether all of these keys are selected. */
export const allSelected = (keys: Picked): boolean =>
  [...keys].every(([key, ids]) => [...ids].every((id) => get().keys.get(key)?.has(id) ?? false))

export const countKeys = (keys: Picked): number =>
  [...keys.values()].reduce((sum, ids) => sum + ids.size, 0)

/** Keys of curves that pass a test, as a selection. */
export function keysWhere(
  curves: ReadonlyMap<ChannelKey, Curve>,
  channels: readonly ChannelKey[],
  test: (curve: KeyedCurve, k: number, key: ChannelKey) => boolean,
): Map<ChannelKey, Set<number>> {
  const out = new Map<ChannelKey, Set<number>>()
  for (const key of channels) {
    const curve = curves.get(key)
    if (curve?.kind !== 'keyed') continue
    const ids = new Set<number>()
    for (let k = 0; k < curve.time.length; k++)
      if (test(curve, k, key)) ids.add(Number(curve.id[k]))
    if (ids.size) out.set(key, ids)
  }
  return out
}

/** First and last time of the selected keys; null where none is selected. */
export function selectedTimes(
  curve: (key: ChannelKey) => Curve | undefined,
): [number, number] | null {
  let low = Number.POSITIVE_INFINITY
  let high = Number.NEGATIVE_INFINITY
  for (const [key, ids] of get().keys) {
    const found = curve(key)
    if (found?.kind !== 'keyed') continue
    const picked = maskOf(found, ids)
    for (let k = 0; k < picked.length; k++) {
      if (!picked[k]) continue
      low = Math.min(low, found.time[k]!)
      high = Math.max(high, found.time[k]!)
    }
  }
  return high >= low ? [low, high] : null
}

/** A key as a scope names it: joint, channel, id, and the frame at which it was seen. */
export type ScopeKey = [string, string, number, number]

/** Selected keys as a scope names them. */
export function keysAsScope(
  keys: Picked,
  curves: ReadonlyMap<ChannelKey, Curve>,
  nameOf: (key: ChannelKey) => string,
): ScopeKey[] {
  return [...keys].flatMap(([key, ids]) => {
    const curve = curves.get(key)
    if (curve?.kind !== 'keyed') return []
    const { channel } = splitKey(key)
    return [...curve.id].flatMap((own, k): ScopeKey[] =>
      ids.has(Number(own)) ? [[nameOf(key), channel, Number(own), curve.time[k]!]] : [],
    )
  })
}

/** What the selected keys have in common, for the fields that show it. */
export interface Common {
  count: number
  /** The earliest of their times. */
  first: number
  time: number | null
  value: number | null
  handle: number | null
  segment: number | null
  swings: number | null
  decay: number | null
  broken: boolean
  muted: boolean
  riding: boolean
}

export function common(curves: ReadonlyMap<ChannelKey, Curve>, keys: Picked): Common {
  const out: Common = {
    count: 0,
    first: Number.POSITIVE_INFINITY,
    time: null,
    value: null,
    handle: null,
    segment: null,
    swings: null,
    decay: null,
    broken: false,
    muted: false,
    riding: false,
  }
  for (const [key, ids] of keys) {
    const curve = curves.get(key)
    if (curve?.kind !== 'keyed') continue
    for (let k = 0; k < curve.id.length; k++) {
      if (!ids.has(Number(curve.id[k]))) continue
      const first = out.count === 0
      out.first = Math.min(out.first, curve.time[k]!)
      for (const name of ['time', 'value', 'handle', 'segment', 'swings', 'decay'] as const) {
        const own = curve[name][k]!
        out[name] = first || out[name] === own ? own : null
      }
      out.broken ||= (curve.flags[k]! & BROKEN) !== 0
      out.muted ||= (curve.flags[k]! & MUTED) !== 0
      out.riding ||= (curve.flags[k]! & RIDING) !== 0
      out.count++
    }
  }
  return out
}
