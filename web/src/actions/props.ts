/** Props by hand: every change is an edit of the clip. */
import { type Schemas, textOf } from '../api/client'
import type { ChannelKey, Curve } from '../evaluation/curves'
import type { Clip } from '../evaluation/model'
import { channelsOfProp } from '../evaluation/owners'
import { bringCurves } from '../sync/confirmed'
import { apply } from '../sync/write'
import { notify, useBench } from '../view/bench'
import { transport } from '../view/transport'
import { inMillimetres } from './lengths'

export type Prop = Schemas['PropOut']

export const SHAPES = { box: 'box', cylinder: 'cylinder', line: 'line', point: 'point' } as const

const edit = (change: object) => apply('edit_props', { edits: [change] })

/** Where a prop is at now, and how it is turned, as its curves are written. */
export function propPlace(index: number): [number, number, number] | null {
  const { clip, poses } = useBench.getState()
  if (!clip || !poses?.props) return null
  const at = 3 * (Math.min(transport.frame, poses.frames - 1) * clip.props.length + index)
  const { place } = poses.props
  return [place[at]!, place[at + 1]!, place[at + 2]!]
}

/** A name that no prop has yet. */
function fresh(shape: string): string {
  const taken = new Set(useBench.getState().clip?.props.map((p) => p.name))
  let n = 1
  while (taken.has(`${shape} ${n}`)) n++
  return `${shape} ${n}`
}

/** Make a prop: led by the selected joints, or standing on the floor where the figure is. */
export async function makeProp(shape: keyof typeof SHAPES, joints: string[]): Promise<void> {
  const { clip } = useBench.getState()
  if (!clip) return
  const place = [0, 0, 0]
  place['xyz'.indexOf(clip.reading.up_axis)] = 150
  await edit({
    do: 'add',
    name: fresh(shape),
    shape,
    size: shape === 'point' ? [80, 80, 80] : [300, 300, 300],
    ...(joints.length ? { joints } : { place }),
  })
}

export const changeProp = (prop: Prop, change: object): Promise<boolean> =>
  edit({ do: 'set', name: prop.name, ...change })

export const leadProp = (prop: Prop, joints: string[]): Promise<boolean> =>
  edit({ do: 'follow', name: prop.name, joints })

/** Lead it by other joints from now on, as it lies to them. */
export const handOver = (prop: Prop, joints: string[]): Promise<boolean> =>
  edit({ do: 'hand_over', name: prop.name, frame: transport.frame, joints })

/** Set keys on a prop at now, where it shall be. */
export const keyProp = (clip: Clip, prop: Prop, place: number[]): Promise<boolean> =>
  edit({
    do: 'key',
    name: prop.name,
    frame: transport.frame,
    place: inMillimetres(clip, place),
  })

/** Open a prop in the panel, or none; its curves are brought, so that it is known what they are. */
export function openProp(prop: number | null): void {
  useBench.setState({ prop })
  bringCurves().catch((trouble: unknown) => notify(textOf(trouble)))
}

/** Few keys in the place of a motion with a value on every frame. */
export const thinProp = (prop: Prop): Promise<boolean> => edit({ do: 'thin', name: prop.name })

/** Whether a prop has a value on every frame, as one that is led has; undefined until it is known. */
export function isDense(prop: Prop, curves: ReadonlyMap<ChannelKey, Curve>): boolean | undefined {
  const own = channelsOfProp(prop.id).map((key) => curves.get(key))
  if (own.some((curve) => !curve)) return undefined
  return own.some((curve) => curve!.kind === 'sampled')
}

export const removeProp = (prop: Prop): Promise<boolean> => edit({ do: 'remove', name: prop.name })
