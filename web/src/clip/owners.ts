/** Whose a channel is: a joint of the figure, or a prop. */
import type { Clip } from './bench'
import { BASE, type ChannelKey, channelKey, splitKey } from './curves'

/** The owner of props' channels; the number in the middle is the prop's id. */
export const PROP = 'prop'
export const PROP_CHANNELS = ['tx', 'ty', 'tz', 'rz', 'rx', 'ry'] as const

export const ofProp = (key: ChannelKey): boolean => splitKey(key).owner === PROP

export const channelsOfProp = (id: number): ChannelKey[] =>
  PROP_CHANNELS.map((c) => channelKey(id, c, PROP))

/** The joints of channels, each once; props have none. */
export const jointsOf = (keys: Iterable<ChannelKey>): number[] => [
  ...new Set([...keys].flatMap((key) => (ofProp(key) ? [] : [splitKey(key).joint]))),
]

/** The name of a channel's joint or prop. */
export function whose(clip: Clip, key: ChannelKey): string {
  const { joint } = splitKey(key)
  if (ofProp(key)) return clip.props.find((p) => p.id === joint)?.name ?? 'a prop'
  return clip.joints[joint]!.name
}

/** A channel by the name of its joint or prop; null where the clip has none such. */
export function channelNamed(
  clip: Clip,
  name: string,
  channel: string,
  owner = BASE,
): ChannelKey | null {
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
  return clip.joints[joint]?.channels.includes(channel) ?? false
}

/** Things by their owner, the figure's first. */
export function byOwner<T>(things: Iterable<T>, key: (thing: T) => ChannelKey): [boolean, T[]][] {
  const [figure, props]: [T[], T[]] = [[], []]
  for (const thing of things) (ofProp(key(thing)) ? props : figure).push(thing)
  return [
    ...(figure.length ? [[false, figure] as [boolean, T[]]] : []),
    ...(props.length ? [[true, props] as [boolean, T[]]] : []),
  ]
}
