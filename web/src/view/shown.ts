/** Which channels the sheet shows: of the selected joints, of the layer that takes keys, pinned. */

import { channelKey, READOUTS } from '../evaluation/curves'
import { channelsOfLayer } from '../evaluation/owners'
import { type BenchState, useBench } from './bench'
import { useLayers } from './layerChoice'
import { useViewing } from './viewing'

/** The channels that the sheet shows. */
export function shownChannels(state: Pick<BenchState, 'clip' | 'joints' | 'channels' | 'readout'>) {
  if (!state.clip) return []
  const { pinned, hidden } = useViewing.getState()
  const { chosen, shown: which } = useLayers.getState()
  // Layers are worked on in Shape: elsewhere the clip's own curves are.
  const here = useBench.getState().step === 'shape' && which.startsWith('layer')
  const layer = here && state.clip.layers.find((x) => x.id === chosen)
  const of = (j: number) =>
    layer ? channelsOfLayer(layer, j) : state.clip!.joints[j]!.channels.map((c) => channelKey(j, c))
  const own = state.channels.length ? state.channels : state.joints.flatMap(of)
  const all = [...new Set([...pinned, ...own])]
  // What is picked by name is shown, hidden or not.
  const shown = state.channels.length ? all : all.filter((key) => !hidden.has(key))
  return [...shown, ...readoutChannels(state)]
}

/** The read-outs that the sheet shows beside the channels. */
export function readoutChannels({ joints, readout }: Pick<BenchState, 'joints' | 'readout'>) {
  if (!readout) return []
  return joints.slice(0, MOST_READ).flatMap((j) => READOUTS[readout].map((c) => channelKey(j, c)))
}

/** Read-outs are of a few joints: more cannot be told apart. */
const MOST_READ = 6
