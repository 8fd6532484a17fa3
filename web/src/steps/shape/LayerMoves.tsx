/** What is done with a whole layer: copied, merged, split, brought to another clip, deleted. */

import {
  copyLayer,
  copyToClip,
  flatten,
  mergeDown,
  removeLayer,
  splitAtNow,
  splitJoints,
} from '../../actions/layers'
import type { Clip } from '../../evaluation/model'
import type { Layer } from '../../evaluation/owners'
import { Button, Select, Tip } from '../../ui/controls'
import { useBench } from '../../view/bench'
import { useTakes } from '../operation/SourceClip'

export function LayerMoves({ layer, clip }: { layer: Layer; clip: Clip }) {
  const joints = useBench((s) => s.joints)
  const takes = useTakes(clip.workspace)
  const others = takes.data?.filter((t) => t.clip !== clip.id && t.frames > 1) ?? []
  const below = clip.layers[clip.layers.indexOf(layer) - 1]
  const inside = joints.filter((j) => layer.channels[j])
  const some = inside.length > 0 && inside.length < Object.keys(layer.channels).length
  return (
    <div className="flex flex-col gap-1.5 border-rule border-t pt-2">
      <div className="flex flex-wrap gap-1.5">
        <Button onClick={() => void copyLayer(layer)}>Copy</Button>
        <Tip text="One layer that does what this one and the one below it do, in their place">
          <Button disabled={!below} onClick={() => below && void mergeDown(below, layer)}>
            Merge down
          </Button>
        </Tip>
        <Tip text="Write it into the clip’s own curves; the layer goes, and undo brings it back">
          <Button onClick={() => void flatten([layer])}>Flatten</Button>
        </Tip>
        <Tip text="The selected joints in a layer of their own">
          <Button disabled={!some} onClick={() => void splitJoints(layer, inside)}>
            Split off joints
          </Button>
        </Tip>
        <Tip text="What it does from now on in a layer of its own">
          <Button onClick={() => void splitAtNow(layer)}>Split at now</Button>
        </Tip>
        <Button onClick={() => void removeLayer(layer)}>Delete</Button>
      </div>
      <Select
        label={`Copy ${layer.name} to another clip`}
        className="w-full"
        value=""
        options={{
          '': others.length ? 'copy to another clip …' : 'no other clip is on the shelf',
          ...Object.fromEntries(others.map((t) => [String(t.id), t.name])),
        }}
        onChange={(take) => take && void copyToClip(layer, Number(take))}
      />
    </div>
  )
}
