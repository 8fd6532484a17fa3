/** Whole poses: copied and pasted, and keyed on a part of the body. */
import { answer, client } from '../api/client'
import { type ChannelKey, type Curve, channelKey } from '../evaluation/curves'
import { placed } from '../evaluation/layering'
import type { Scope } from '../evaluation/model'
import { channelsOfLayer, jointsOf } from '../evaluation/owners'
import { type JointPose, jointPose } from '../evaluation/rotations'
import { bringCurves } from '../sync/confirmed'
import { apply } from '../sync/write'
import { counted } from '../ui/numbers'
import { notify, useBench } from '../view/bench'
import { transport } from '../view/transport'
import { setKeys } from './edits'
import { chosenLayer, whyNoKeys } from './layers'
import {
  type Change,
  changeFor,
  commitPose,
  mayPose,
  ofValues,
  type Values,
  valueNow,
} from './posing'

const NO_CURVES = (layer: string) =>
  `${layer} does nothing to these joints yet: turn them on the stage first.`

/** A copied pose: values by joint and channel. */
let clipboard: Record<string, Record<string, number>> | null = null

export function copyPose(): void {
  const { clip, joints } = useBench.getState()
  if (!clip || !joints.length) return
  const values: Record<string, Record<string, number>> = {}
  for (const joint of joints) {
    const own: Record<string, number> = {}
    for (const name of clip.joints[joint]!.channels) {
      const value = valueNow(channelKey(joint, name))
      if (value !== undefined) own[name] = value
    }
    values[joint] = own
  }
  clipboard = values
  notify(`The pose of ${joints.length} ${joints.length === 1 ? 'joint' : 'joints'} is copied.`)
}

/** Paste the copied pose at now, on the same joints or on those of the other side. */
export async function pastePose(mirrored: boolean): Promise<void> {
  const { clip } = useBench.getState()
  if (!mayPose()) return
  if (!clip || !clipboard) {
    notify('Nothing to paste: copy the pose of selected joints first.')
    return
  }
  let values = clipboard
  if (mirrored) {
    try {
      const body = { revision: clip.head.id, frame: transport.frame, values }
      const path = { clip_id: clip.id }
      const got = await answer(
        client.POST('/api/clips/{clip_id}/mirror', { params: { path }, body }),
      )
      values = got.values
    } catch (trouble) {
      notify(trouble instanceof Error ? trouble.message : String(trouble))
      return
    }
  }
  const pasted = new Map<ChannelKey, number>()
  for (const [joint, own] of Object.entries(values))
    for (const [name, value] of Object.entries(own))
      pasted.set(channelKey(Number(joint), name), value)
  await bringCurves(jointsOf(pasted.keys()))
  commitPose(changeTo(pasted))
}

/** What has to be changed for channels to have values, of joints whose curves are here. */
function changeTo(values: Values): Change {
  const { clip } = useBench.getState()
  if (!chosenLayer())
    return ofValues(
      new Map([...values].filter(([key, value]) => Math.abs(value - valueNow(key)!) > 1e-9)),
    )
  const constant = (key: ChannelKey): Curve | undefined => {
    const value = values.get(key) ?? valueNow(key)
    return value === undefined ? undefined : { kind: 'sampled', values: Float64Array.of(value) }
  }
  const wanted = new Map<number, JointPose>()
  for (const joint of jointsOf(values.keys())) {
    const pose = jointPose(clip!, joint, constant, 0)
    if (pose) wanted.set(joint, placed(clip!, joint, pose))
  }
  return changeFor(wanted)
}

/** Key the pose at now on a part of the body, or on the selected joints: of the layer that takes
 * keys, or of the clip's own curves. */
export async function keyPart(group: string | null): Promise<void> {
  const { clip, joints, body } = useBench.getState()
  if (!clip) return
  const own = group ? body?.own_groups[group] : joints
  const layer = chosenLayer()
  if (layer) {
    const inside = own ?? body?.groups[group!] ?? []
    const there = inside.flatMap((joint) => channelsOfLayer(layer, joint))
    const why = whyNoKeys(layer) || (there.length ? '' : NO_CURVES(layer.name))
    if (why) notify(why)
    else setKeys(there)
    return
  }
  const scope: Scope = own ? { joints: own.map((j) => clip.joints[j]!.name) } : { groups: [group!] }
  if (await apply('key_pose', { frame: transport.frame }, scope)) {
    const { report } = useBench.getState().clip!.head
    const made = Number(report.keys_made ?? 0)
    const dense = Number(report.dense_skipped ?? 0)
    const skipped = dense
      ? ` ${counted(dense, 'channel')} with a value on every frame: thin first to key there.`
      : ''
    notify(`${made} ${made === 1 ? 'key' : 'keys'} set at frame ${transport.frame}.${skipped}`)
  }
}
