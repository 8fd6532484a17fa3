/** Whose a channel is: a joint of the figure, a prop, or a correction layer. */

import { BASE, type ChannelKey, channelKey, splitKey } from './curves'
import type { Clip } from './model'

/** The owner of props' channels; the number in the middle is the prop's id. */
export const PROP = 'prop'
export const PROP_CHANNELS = ['tx', 'ty', 'tz', 'rz', 'rx', 'ry'] as const
/** A layer's weight is nobody's: the number in the middle says so. */
const NOBODY = -1

export const ownerOf = (key: ChannelKey): string => splitKey(key).owner
export const ofFigure = (key: ChannelKey): boolean => ownerOf(key) === BASE
export const ofProp = (key: ChannelKey): boolean => ownerOf(key) === PROP

export type Layer = Clip['layers'][number]

/** The owner of a layer's channels. */
export const layerOwner = ({ id }: Pick<Layer, 'id'>): string => `layer:${id}`

export const weightOf = (layer: Pick<Layer, 'id'>): ChannelKey =>
  channelKey(NOBODY, 'w', layerOwner(layer))

/** A layer's channels on a joint. */
export const channelsOfLayer = (layer: Layer, joint: number): ChannelKey[] =>
  (layer.channels[joint] ?? []).map((c) => channelKey(joint, c, layerOwner(layer)))

/** All channels of a layer, its weight first. */
export const allOfLayer = (layer: Layer): ChannelKey[] => [
  weightOf(layer),
  ...Object.keys(layer.channels).flatMap((joint) => channelsOfLayer(layer, Number(joint))),
]

/** The layer that a channel is of. */
export const layerOf = (clip: Clip, key: ChannelKey): Layer | undefined =>
  clip.layers.find((x) => layerOwner(x) === ownerOf(key))

export const channelsOfProp = (id: number): ChannelKey[] =>
  PROP_CHANNELS.map((c) => channelKey(id, c, PROP))

/** The joints of the figure's own channels, each once. */
export const jointsOf = (keys: Iterable<ChannelKey>): number[] => [
  ...new Set([...keys].flatMap((key) => (ofFigure(key) ? [splitKey(key).joint] : []))),
]

/** The name of a channel's joint or prop; none of a layer's weight. */
export function whose(clip: Clip, key: ChannelKey): string {
  const { joint } = splitKey(key)
  if (ofProp(key)) return clip.props.find((p) => p.id === joint)?.name ?? 'a prop'
  return joint === NOBODY ? '' : clip.joints[joint]!.name
}

/** The name of the layer that a channel is of, null of the figure's own and props'. */
export const layerName = (clip: Clip, key: ChannelKey): string | null =>
  layerOf(clip, key)?.name ?? null

/** A channel by the name of its joint or prop; null where the clip has none such. */
export function channelNamed(
  clip: Clip,
  name: string,
  channel: string,
  owner = BASE,
): ChannelKey | null {
  if (owner !== BASE && owner !== PROP && !name) return channelKey(NOBODY, channel, owner)
  const at =
    owner === PROP
      ? (clip.props.find((p) => p.name === name)?.id ?? -1)
      : clip.joints.findIndex((j) => j.name === name)
  return at < 0 ? null : channelKey(at, channel, owner)
}

/** Whether a clip has a channel. */
export function hasChannel(clip: Clip, key: ChannelKey): boolean {
  const { joint, channel } = splitKey(key)
  if (ofProp(key)) return clip.props.some((p) => p.id === joint)
  if (ofFigure(key)) return clip.joints[joint]?.channels.includes(channel) ?? false
  const layer = layerOf(clip, key)
  if (!layer) return false
  return joint === NOBODY || channelsOfLayer(layer, joint).includes(key)
}

/** All channels that are not the figure's own. */
export const otherChannels = (clip: Clip): ChannelKey[] => [
  ...clip.props.flatMap((p) => channelsOfProp(p.id)),
  ...clip.layers.flatMap(allOfLayer),
]

/** Channels by their owner, the figure's first. */
export function byOwner(keys: Iterable<ChannelKey>): Map<string, ChannelKey[]> {
  const out = new Map<string, ChannelKey[]>()
  for (const key of keys) {
    const owner = ownerOf(key)
    out.set(owner, [...(out.get(owner) ?? []), key])
  }
  return new Map([...out].sort(([a], [b]) => Number(b === BASE) - Number(a === BASE)))
}
