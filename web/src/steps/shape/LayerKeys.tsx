/** Keys of a layer by number: what it does to the selected joint at now. */
import { useSyncExternalStore } from 'react'
import { selectJoints } from '../../actions/choose'
import {
  changeLayer,
  keyLayer,
  keyOverRange,
  setRamp,
  valuesNow,
  whyNoKeys,
} from '../../actions/layers'
import type { Clip } from '../../evaluation/model'
import { channelsOfLayer, type Layer, weightOf } from '../../evaluation/owners'
import { lengthUnit } from '../../sheet/names'
import { Button, NumberInput, Tip } from '../../ui/controls'
import { degrees } from '../../ui/numbers'
import { useBench } from '../../view/bench'
import { useLayers } from '../../view/layerChoice'
import { transport } from '../../view/transport'

const RAMPS = { ramp_in: 'Ramp in', hold: 'Hold', ramp_out: 'Ramp out' } as const

/** A turn as its size and its axis: how far it is from the pose below. */
function axisText(vector: readonly number[]): string {
  const size = Math.hypot(...vector)
  if (size < 0.005) return 'as it is below'
  const axis = vector.map((v) => (v / size).toFixed(2)).join(', ')
  return `${degrees(size)} about ${axis}`
}

/** What the chosen layer does to the selected joint at now, in numbers that are keyed. */
export function LayerKeys({ layer, clip }: { layer: Layer; clip: Clip }) {
  const joints = useBench((s) => s.joints)
  const curves = useBench((s) => s.curves)
  useSyncExternalStore(transport.subscribe, () => transport.frame)
  const ramps = useLayers((s) => s.ramps)
  const joint = joints[0]
  if (joint === undefined) return <p className="text-ink-2">Select a joint to correct.</p>
  const { name, channels } = clip.joints[joint]!
  const turn = valuesNow(curves, layer, joint, 'r')
  const [first, last] = transport.range
  const ranged = first > 0 || last < transport.frames - 1
  const why = whyNoKeys(layer)
  const shut = why !== ''
  const moves = channels.some((c) => c[0] === 't')
  const field = (what: 'turns' | 'moves', letter: 'r' | 't', unit: string) => {
    const values = valuesNow(curves, layer, joint, letter)
    return (
      <div className="flex items-center justify-between gap-1 text-ink-2">
        <span className="whitespace-nowrap">
          {what === 'turns' ? 'turn' : 'move'}, {unit}
        </span>
        {(['X', 'Y', 'Z'] as const).map((axis, k) => (
          <NumberInput
            key={axis}
            before={axis}
            label={`${layer.name}: ${name} ${what === 'turns' ? 'turn' : 'move'} ${axis}`}
            className="w-[58px]"
            digits={2}
            value={values[k]!}
            onCommit={(v) => {
              const next = [...values]
              next[k] = v
              void keyLayer(layer, name, what, next)
            }}
          />
        ))}
      </div>
    )
  }
  return (
    <div className="flex flex-col gap-1.5">
      <p>
        <b>{name}</b> on <b>{layer.name}</b> at now
      </p>
      {!shut && field('turns', 'r', '°')}
      {layer.kind === 'additive' && <p className="num text-[12px] text-ink-3">{axisText(turn)}</p>}
      {!shut && moves && field('moves', 't', lengthUnit(clip.reading.metres_per_unit))}
      <div className="flex flex-wrap items-center justify-between gap-1 text-ink-2">
        <Tip text="A new key's correction ramps in from nothing, holds, and ramps out to nothing, over so many frames each; left empty, it stays">
          <span className="whitespace-nowrap">ramp in, hold, ramp out</span>
        </Tip>
        <span className="flex gap-1">
          {(['ramp_in', 'hold', 'ramp_out'] as const).map((part) => (
            <NumberInput
              key={part}
              label={`${RAMPS[part]}, frames`}
              className="w-[58px] shrink-0"
              digits={0}
              placeholder="–"
              value={ramps[part]}
              onCommit={(v) => setRamp(part, v)}
            />
          ))}
        </span>
      </div>
      <div className="flex flex-wrap gap-1.5">
        <Tip text="A key of no correction at now">
          <Button
            disabled={shut || !channelsOfLayer(layer, joint).length}
            onClick={() => void keyLayer(layer, name, 'turns', [0, 0, 0], {})}
          >
            End correction here
          </Button>
        </Tip>
        <Tip text="Hold the correction at now over the range of the time strip, ramped in and out">
          <Button
            disabled={shut || !ranged || !channelsOfLayer(layer, joint).length}
            onClick={() => void keyOverRange(layer, name, valuesNow(curves, layer, joint, 'r'))}
          >
            Hold over range
          </Button>
        </Tip>
        <Button
          disabled={!channelsOfLayer(layer, joint).length}
          onClick={() => selectJoints(joints, channelsOfLayer(layer, joint))}
        >
          Layer curves
        </Button>
        <Button onClick={() => selectJoints(joints, [weightOf(layer)])}>Weight curve</Button>
      </div>
      {shut && <p className="text-bad">{why}</p>}
      <label className="flex items-center justify-between gap-2 text-ink-2">
        mask of {name}
        <span className="flex items-center gap-1.5">
          <NumberInput
            label={`Mask of ${name} on ${layer.name}, percent`}
            className="w-14"
            digits={0}
            value={100 * (layer.mask[joint] ?? 1)}
            onCommit={(v) => {
              const mask = Object.fromEntries(
                Object.entries(layer.mask).map(([j, share]) => [
                  clip.joints[Number(j)]!.name,
                  share,
                ]),
              )
              const share = Math.max(0, Math.min(100, v)) / 100
              void changeLayer(layer, { mask: { ...mask, [name]: share } })
            }}
          />
          %
        </span>
      </label>
    </div>
  )
}
