/** Channels and units in words. */

import { type ChannelKey, channelTitle, readoutName, splitKey } from '../evaluation/curves'
import type { Clip } from '../evaluation/model'
import { layerName, whose } from '../evaluation/owners'

/** The unit that the clip's moves are in. */
export function lengthUnit(metres: number): string {
  const named = Object.entries({ m: 1, cm: 0.01, mm: 0.001, in: 0.0254 })
  return named.find(([, m]) => Math.abs(m - metres) < 1e-9)?.[0] ?? 'u'
}

/** `Hips turn Y`: a channel in words. */
export function channelName(key: ChannelKey, clip: Clip): string {
  const { channel } = splitKey(key)
  const read = readoutName(key)
  const axis = channel[0] === 'p' ? ` ${channel[1]!.toUpperCase()}` : ''
  const layer = layerName(clip, key)
  if (channel === 'w') return `weight of ${layer}`
  const told = `${whose(clip, key)} ${read ? `${read}${axis}` : channelTitle(channel)}`
  return layer === null ? told : `${told} of ${layer}`
}
