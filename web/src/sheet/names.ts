/** Channels and units in words. */
import { type ChannelKey, channelTitle, readoutName, splitKey } from '../clip/curves'

/** The unit that the clip's moves are in. */
export function lengthUnit(metres: number): string {
  const named = Object.entries({ m: 1, cm: 0.01, mm: 0.001, in: 0.0254 })
  return named.find(([, m]) => Math.abs(m - metres) < 1e-9)?.[0] ?? 'u'
}

/** `Hips turn Y`: a channel in words. */
export function channelName(key: ChannelKey, joints: readonly { name: string }[]): string {
  const { joint, channel } = splitKey(key)
  const read = readoutName(key)
  const axis = channel[0] === 'p' ? ` ${channel[1]!.toUpperCase()}` : ''
  if (read) return `${joints[joint]!.name} ${read}${axis}`
  return `${joints[joint]!.name} ${channelTitle(channel)}`
}
