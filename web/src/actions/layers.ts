/** Correction layers by hand: every change is an edit of the clip. */
import { addressOf, answer, client, clipOfTake, numbers, textOf } from '../api/client'
import type { Corrected } from '../evaluation/corrections'
import { type Curve, channelKey, curvesOf, valueAt } from '../evaluation/curves'
import { type Edits, freshId, type KeyEdit } from '../evaluation/keys'
import { type Layer, layerOwner, weightOf } from '../evaluation/owners'
import { turnOf } from '../evaluation/rotations'
import { apply, write } from '../sync/write'
import { counted } from '../ui/numbers'
import { notify, useBench } from '../view/bench'
import { NO_RAMPS, type Ramps, type Shown, useLayers } from '../view/layerChoice'
import { clearKeys } from '../view/selection'
import { transport } from '../view/transport'
import { inMillimetres } from './lengths'
import { freeName } from './names'

export const KINDS = {
  additive: 'additive rotation',
  channels: 'additive values',
  override: 'override',
} as const
export const SPACES = { parent: 'parent space', figure: 'character space' } as const
export type Kind = keyof typeof KINDS
export type Space = keyof typeof SPACES

export function chooseLayer(chosen: number | null): void {
  clearKeys()
  useLayers.setState({ chosen, ramps: NO_RAMPS })
}

export function showCurvesOf(shown: Shown): void {
  clearKeys()
  useLayers.setState({ shown })
}

// Another clip has layers of its own.
useBench.subscribe(({ clip }, { clip: before }) => {
  if (clip?.id !== before?.id) useLayers.setState({ chosen: null, solo: [], result: [] })
  else if (clip && clip !== before) {
    const { solo } = useLayers.getState()
    const there = solo.filter((id) => clip.layers.some((x) => x.id === id))
    if (there.length < solo.length) useLayers.setState({ solo: there })
  }
})

/** Fetch what all makes of the selected joints, where it is drawn behind. */
export async function loadResult(): Promise<void> {
  const { clip, joints } = useBench.getState()
  const { chosen, shown } = useLayers.getState()
  const wanted = clip && chosen !== null && joints.length > 0 && shown.endsWith('result')
  if (!wanted) {
    if (useLayers.getState().result.length) useLayers.setState({ result: [] })
    return
  }
  try {
    const asked = { revision: clip.head.id, joints: joints.join(','), result: 'true' }
    const got = curvesOf(await numbers(addressOf(clip, 'curves', asked)))
    const now = useBench.getState()
    if (now.clip?.head.id === clip.head.id && now.joints === joints)
      useLayers.setState({ result: [...got.values()] })
  } catch (trouble) {
    notify(textOf(trouble))
  }
}

export function setRamp(part: keyof Ramps, frames: number): void {
  const { ramps } = useLayers.getState()
  useLayers.setState({ ramps: { ...ramps, [part]: Math.max(0, Math.round(frames)) } })
}

/** The ramps that are set. */
const rampsNow = (): Partial<Record<keyof Ramps, number>> =>
  Object.fromEntries(Object.entries(useLayers.getState().ramps).filter(([, v]) => v !== null))

/** The layer that takes keys; null where the clip's own curves do. */
export function chosenLayer(): Layer | null {
  const { chosen } = useLayers.getState()
  return useBench.getState().clip?.layers.find((x) => x.id === chosen) ?? null
}

/** Why a layer takes no keys, in one sentence; empty where it does. */
export function whyNoKeys(layer: Layer): string {
  const { solo } = useLayers.getState()
  if (layer.locked) return `${layer.name} is locked: it takes no keys.`
  if (layer.muted) return `${layer.name} is muted: what is keyed on it would not be seen.`
  const other = solo.length > 0 && !solo.includes(layer.id)
  return other ? `${layer.name} is not seen while another layer is solo.` : ''
}

/** See a layer alone, or with others that are; or all again. */
export function toggleSolo(layer: Layer): void {
  const { solo } = useLayers.getState()
  const on = solo.includes(layer.id)
  useLayers.setState({ solo: on ? solo.filter((id) => id !== layer.id) : [...solo, layer.id] })
}

export const endSolo = (): void => useLayers.setState({ solo: [] })

/** A layer in an edit: its id says which one is meant, its name what it was called. */
const named = ({ id, name }: Layer) => ({ id, name })

const edit = (...edits: object[]): Promise<boolean> => apply('edit_layers', { edits })

export async function newLayer(name: string, kind: Kind): Promise<void> {
  const taken = useBench.getState().clip?.layers.map((x) => x.name) ?? []
  const free = freeName(name.trim() || 'layer', taken)
  if (!(await edit({ do: 'add', name: free, kind }))) return
  const made = useBench.getState().clip?.layers.find((x) => x.name === free)
  chooseLayer(made?.id ?? null)
}

export const changeLayer = (layer: Layer, change: object): Promise<boolean> =>
  edit({ do: 'set', ...named(layer), ...change })

export const moveLayer = (layer: Layer, to: number): Promise<boolean> =>
  edit({ do: 'move', ...named(layer), to })

export const copyLayer = (layer: Layer): Promise<boolean> => edit({ do: 'copy', ...named(layer) })

export function removeLayer(layer: Layer): Promise<boolean> {
  if (useLayers.getState().chosen === layer.id) chooseLayer(null)
  return edit({ do: 'remove', ...named(layer) })
}

/** Do it, and let what it made on top of a layer take keys. */
async function made(operation: string, params: Record<string, unknown>): Promise<void> {
  const before = new Set(useBench.getState().clip?.layers.map((x) => x.id))
  if (!(await apply(operation, params))) return
  const fresh = useBench.getState().clip?.layers.find((x) => !before.has(x.id))
  if (fresh) chooseLayer(fresh.id)
}

/** How layers are written: to keys where there were some, closer than thinning would, or on every
 * frame. */
const keyedNow = () =>
  useLayers.getState().keyed
    ? { keyed: true, tolerance_deg: 0.1, tolerance_mm: 0.5 }
    : { keyed: false }

export const mergeDown = (below: Layer, layer: Layer): Promise<void> =>
  made('merge_layers', {
    layers: [below.name, layer.name],
    ids: [below.id, layer.id],
    ...keyedNow(),
  })

export function splitJoints(layer: Layer, joints: readonly number[]): Promise<void> {
  const names = joints.map((j) => useBench.getState().clip!.joints[j]!.name)
  return made('split_layer', { layer: layer.name, layer_id: layer.id, joints: names })
}

export const splitAtNow = (layer: Layer): Promise<void> =>
  made('split_layer', {
    layer: layer.name,
    layer_id: layer.id,
    frame: Math.round(transport.frame),
  })

/** What a line of the recipe changed becomes a layer, and the line is taken out. */
export async function extractLine(line: { line_id: string; told: string }): Promise<void> {
  const { clip } = useBench.getState()
  if (!clip) return
  try {
    const path = { clip_id: clip.id, line_id: line.line_id }
    const inputs = await answer(
      client.GET('/api/clips/{clip_id}/lines/{line_id}/states', {
        params: { path, query: { revision: clip.head.id } },
      }),
    )
    const params = { name: line.told.slice(0, 60) }
    const append = { operation: 'extract', params, scope: {}, inputs }
    await write({ append, remove: line.line_id }, `${line.told} into a layer`)
  } catch (trouble) {
    notify(textOf(trouble))
  }
}

/** Lay a layer over the clip of another take: a change of that clip, told here. */
export async function copyToClip(layer: Layer, take: number): Promise<void> {
  const { clip } = useBench.getState()
  if (!clip) return
  try {
    const other = await clipOfTake(take)
    const after = await answer(
      client.POST('/api/clips/{clip_id}/writes', {
        params: { path: { clip_id: other.id } },
        body: {
          append: {
            operation: 'bring_layers',
            params: { layers: [layer.name], ids: [layer.id] },
            scope: {},
            inputs: { source: clip.head.state },
          },
          revision: other.head.id,
          request_id: crypto.randomUUID(),
          after: [],
          goes_on: null,
        },
      }),
    )
    const missed = (after.head.report.unplaced as unknown as unknown[] | undefined)?.length ?? 0
    const left = missed ? ` ${counted(missed, 'joint')} it has not.` : ''
    notify(`${layer.name} lies over ${other.name} now, revision ${after.head.number}.${left}`)
  } catch (trouble) {
    notify(textOf(trouble))
  }
}

export const flatten = (layers: readonly Layer[] = []): Promise<boolean> => {
  const which = layers.length
    ? { layers: layers.map((x) => x.name), ids: layers.map((x) => x.id) }
    : {}
  return apply('flatten', { ...which, ...keyedNow() })
}

/** Key a joint on a layer at now. */
export const keyLayer = (
  layer: Layer,
  joint: string,
  what: 'turns' | 'moves',
  values: readonly number[],
  ramped: object = rampsNow(),
  frame = transport.frame,
): Promise<boolean> =>
  apply('key_layer', {
    layer: layer.name,
    layer_id: layer.id,
    frame: Math.round(frame),
    [what]: {
      [joint]: what === 'moves' ? inMillimetres(useBench.getState().clip!, values) : values,
    },
    ...ramped,
  })

/** Frames over which a correction comes and goes where nothing else is said. */
const USUAL_RAMP = 12

/** What a layer does to a joint at now is done over the range of the strip, and comes and goes. */
export function keyOverRange(
  layer: Layer,
  joint: string,
  values: readonly number[],
): Promise<boolean> {
  const [first, last] = transport.range
  const ramps = { ramp_in: USUAL_RAMP, ramp_out: USUAL_RAMP, ...rampsNow(), hold: last - first }
  return keyLayer(layer, joint, 'turns', values, ramps, first)
}

/** Key joints on a layer as they shall stand otherwise: with the ramps that are set. */
export function keyFurther(layer: Layer, { frame, by }: Corrected): Promise<boolean> {
  const clip = useBench.getState().clip!
  const turned: Record<string, readonly number[]> = {}
  const moved: Record<string, readonly number[]> = {}
  for (const [joint, { turn, move }] of by) {
    const vector = turnOf(turn)
    const { name } = clip.joints[joint]!
    if (Math.hypot(...vector) > 1e-6) turned[name] = vector
    if (Math.hypot(...move) > 1e-9) moved[name] = inMillimetres(clip, move)
  }
  if (!Object.keys({ ...turned, ...moved }).length) return Promise.resolve(true)
  const params = { layer: layer.name, layer_id: layer.id, frame, turned, moved, ...rampsNow() }
  return apply('key_layer', params, {}, undefined, { corrects: { frame, by } })
}

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

/** What gives a layer a weight at now: its one key, or one of several at now. */
export function weightEdits(layer: Layer, value: number): Edits {
  const key = weightOf(layer)
  const curve = useBench.getState().curves.get(key)
  if (curve?.kind !== 'keyed') return new Map()
  const frame = Math.round(transport.frame)
  const k = curve.time.length === 1 ? 0 : curve.time.indexOf(frame)
  const edit: KeyEdit =
    k < 0
      ? { id: freshId(curve), frame, do: 'make', value }
      : { id: Number(curve.id[k]), frame: curve.time[k]!, was: curve.value[k]!, value }
  return new Map([[key, [edit]]])
}

/** A layer's weight at now, 1 until it is known. */
export function weightNow(curves: ReadonlyMap<string, Curve>, layer: Layer): number {
  const curve = curves.get(weightOf(layer))
  return curve ? valueAt(curve, transport.frame) : 1
}
