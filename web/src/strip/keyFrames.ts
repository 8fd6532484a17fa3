/** Frames that hold keys of the selected joints. Dense channels have no keys to jump between. */

import { type ChannelKey, type Curve, channelKey } from '../evaluation/curves'
import type { Clip } from '../evaluation/model'

export function keyFrames(
  clip: Clip,
  joints: readonly number[],
  curves: ReadonlyMap<ChannelKey, Curve>,
): number[] {
  const out = new Set<number>()
  for (const j of joints)
    for (const c of clip.joints[j]!.channels) {
      const curve = curves.get(channelKey(j, c))
      if (curve?.kind === 'keyed') for (const t of curve.time) out.add(t)
    }
  return [...out].sort((a, b) => a - b)
}
