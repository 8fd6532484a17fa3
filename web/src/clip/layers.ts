/** Correction layers by hand: every change is an edit of the clip. */
import { create } from 'zustand'
import { useBench } from './bench'
import { type Curve, channelKey, valueAt } from './curves'
import { type Layer, layerOwner, weightOf } from './owners'
import { transport } from './transport'
import { apply } from './write'

export const KINDS = {
  add: 'turns further',
  channels: 'adds numbers',
  replace: 'leads to poses',
} as const
export const SPACES = { parent: 'with the joint above', figure: 'with the figure' } as const
export type Kind = keyof typeof KINDS
export type Space = keyof typeof SPACES

/** The layer that takes keys, by its id; null for the clip's own curves. */
export const useLayers = create<{ chosen: number | null }>(() => ({ chosen: null }))

const edit = (...edits: object[]): Promise<boolean> => apply('edit_layers', { edits })

export async function newLayer(name: string, kind: Kind): Promise<void> {
  const taken = new Set(useBench.getState().clip?.layers.map((x) => x.name))
  let free = name.trim() || 'layer'
  for (let n = 2; taken.has(free); n++) free = `${name.trim() || 'layer'} ${n}`
  if (!(await edit({ do: 'add', name: free, kind }))) return
  const made = useBench.getState().clip?.layers.find((x) => x.name === free)
  useLayers.setState({ chosen: made?.id ?? null })
}

export const changeLayer = (layer: Layer, change: object): Promise<boolean> =>
  edit({ do: 'set', name: layer.name, ...change })

export const moveLayer = (layer: Layer, to: number): Promise<boolean> =>
  edit({ do: 'move', name: layer.name, to })

export const copyLayer = (layer: Layer): Promise<boolean> => edit({ do: 'copy', name: layer.name })

export const removeLayer = (layer: Layer): Promise<boolean> =>
  edit({ do: 'remove', name: layer.name })

export const flatten = (names: string[] = []): Promise<boolean> =>
  apply('flatten', names.length ? { layers: names } : {})

/** How a correction comes from nothing and goes back to it, in frames. */
export interface Ramps {
  ramp_in?: number
  hold?: number
  ramp_out?: number
}

/** Key a joint on a layer at now. */
export const keyLayer = (
  layer: Layer,
  joint: string,
  what: 'turns' | 'moves',
  values: readonly number[],
  ramps: Ramps = {},
): Promise<boolean> =>
  apply('key_layer', {
    layer: layer.name,
    frame: Math.round(transport.frame),
    [what]: { [joint]: values },
    ...ramps,
  })

/** What a layer's curves say of a joint at now: its turn or its move, 0 where it has none. */
export function valuesNow(
  curves: ReadonlyMap<string, Curve>,
  layer: Layer,
  joint: number,
  what: 't' | 'r',
): [number, number, number] {
  const at = (axis: string) => {
    const curve = curves.get(channelKey(joint, `${what}${axis}`, layerOwner(layer)))
    return curve ? valueAt(curve, transport.frame) : 0
  }
  return [at('x'), at('y'), at('z')]
}

/** A layer's weight at now, 1 until it is known. */
export function weightNow(curves: ReadonlyMap<string, Curve>, layer: Layer): number {
  const curve = curves.get(weightOf(layer))
  return curve ? valueAt(curve, transport.frame) : 1
}
