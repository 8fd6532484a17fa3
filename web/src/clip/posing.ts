/** Poses by hand on the stage: keyed at once, or by hand with what is not keyed yet kept in sight.
 *
 * A change that has not been keyed is kept with its frame until it is keyed or put back: through
 * scrubbing, undo, other steps and a reload.
 */

import { create } from 'zustand'
import { answer, client, textOf } from '../api/client'
import { counted } from '../ui/numbers'
import { notify, type Scope, useBench } from './bench'
import { bringCurves } from './confirmed'
import { BASE, type ChannelKey, type Curve, channelKey, valueAt } from './curves'
import { draft } from './draft'
import { commitEdits, showEdits } from './edits'
import { type Edits, freshId, type KeyEdit } from './keys'
import { jointsOf } from './owners'
import {
  addsOffset,
  anglesNear,
  inverse,
  type JointPose,
  jointPose,
  multiply,
  type Quat,
  turned,
  turnOf,
} from './rotations'
import { transport } from './transport'
import { apply } from './write'

export type Values = ReadonlyMap<ChannelKey, number>

export interface Unkeyed {
  frame: number
  values: Values
}

/** What is done to joints on the stage: they are turned, moved, or pulled by their end. */
export type PoseMode = 'turn' | 'move' | 'pull'

interface Posing {
  /** Whether the stage has its gizmo out. */
  on: boolean
  mode: PoseMode
  /** How much of a pulled end's way the body goes along: 0 is the limb alone. */
  body: number
  axes: 'local' | 'world'
  /** Keys are set as soon as a change is let go of. */
  auto: boolean
  unkeyed: Unkeyed | null
  /** Frames to each side over which a soft offset dies out. */
  radius: number
}

const AUTO = 'lean.posing.auto'

export const usePosing = create<Posing>(() => ({
  on: false,
  mode: 'turn',
  body: 0,
  axes: 'local',
  auto: localStorage.getItem(AUTO) === 'on',
  unkeyed: null,
  radius: 12,
}))

const { getState: get, setState: set } = usePosing

/** What is being dragged, before it is let go. */
let live: Unkeyed | null = null

type Listener = () => void
const listeners = new Set<Listener>()
export const onLive = (listener: Listener): (() => void) => {
  listeners.add(listener)
  return () => listeners.delete(listener)
}
const tell = () => {
  for (const listener of listeners) listener()
}

export function setAuto(auto: boolean): void {
  localStorage.setItem(AUTO, auto ? 'on' : 'off')
  set({ auto })
}

const place = (clip: number) => `lean.unkeyed.${clip}`

function keep(unkeyed: Unkeyed | null): void {
  const clip = useBench.getState().clip?.id
  set({ unkeyed })
  if (clip === undefined) return
  if (unkeyed)
    localStorage.setItem(
      place(clip),
      JSON.stringify({ frame: unkeyed.frame, values: [...unkeyed.values] }),
    )
  else localStorage.removeItem(place(clip))
}

// What was left unkeyed in a clip is there again when it is opened.
useBench.subscribe(({ clip }, { clip: before }) => {
  if (clip?.id === before?.id) return
  const text = clip && localStorage.getItem(place(clip.id))
  const kept = text ? (JSON.parse(text) as { frame: number; values: [ChannelKey, number][] }) : null
  live = null
  // Channels were kept without their owner once.
  const whole = (key: ChannelKey) => (key.split('/').length === 2 ? `${BASE}/${key}` : key)
  const values = new Map((kept?.values ?? []).map(([key, value]) => [whole(key), value]))
  set({ unkeyed: kept && { frame: kept.frame, values } })
})

// Where time is changed what is not keyed moves along with its frame.
useBench.subscribe(({ clip }, { clip: before }) => {
  const { unkeyed } = get()
  if (!unkeyed || !clip || !before || clip.id !== before.id || clip.head.id === before.head.id)
    return
  if (clip.frames === before.frames && clip.rate.join() === before.rate.join()) return
  const asked = { since: before.head.id, revision: clip.head.id, frames: [unkeyed.frame] }
  answer(
    client.POST('/api/clips/{clip_id}/moved', {
      params: { path: { clip_id: clip.id } },
      body: asked,
    }),
  )
    .then(({ frames: [frame] }) => {
      if (get().unkeyed !== unkeyed) return
      if (frame == null)
        notify(
          `Frame ${unkeyed.frame} is no more: what is not keyed stays at the frame nearest to it.`,
        )
      keep({ ...unkeyed, frame: frame ?? Math.min(unkeyed.frame, clip.frames - 1) })
      tell()
    })
    .catch((trouble: unknown) => notify(textOf(trouble)))
})

/** The curves of what is not keyed are here whatever is selected: it is seen, and can be keyed. */
let bringing = false
useBench.subscribe(({ curves }, { curves: before }) => {
  const { unkeyed } = get()
  if (!unkeyed || curves === before || bringing) return
  const missing = [...unkeyed.values.keys()].filter((key) => !curves.has(key))
  if (!missing.length) return
  bringing = true
  bringCurves(jointsOf(missing))
    .catch((trouble: unknown) => notify(String(trouble)))
    .finally(() => {
      bringing = false
      tell()
    })
})

/** What is not keyed: what is being dragged, or what has been let go of. */
export const unkeyedNow = (): Unkeyed | null => live ?? get().unkeyed

/** Values that are shown at a frame in the place of the curves'. */
function shownAt(frame: number): Values | null {
  if (live?.frame === frame) return live.values
  const { unkeyed } = get()
  return unkeyed?.frame === frame ? unkeyed.values : null
}

/** Joints that stand otherwise than their curves at a frame. */
export function posedJoints(frame: number): Map<number, JointPose> {
  const values = shownAt(frame)
  const out = new Map<number, JointPose>()
  if (!values) return out
  for (const joint of jointsOf(values.keys())) {
    const pose = poseNow(joint, frame)
    if (pose) out.set(joint, pose)
  }
  return out
}

const curveNow = (key: ChannelKey): Curve | undefined =>
  draft.ahead.get(key) ?? useBench.getState().curves.get(key)

/** A channel's value as it is seen at a frame. */
export function valueNow(key: ChannelKey, frame = transport.frame): number | undefined {
  const posed = shownAt(frame)?.get(key)
  if (posed !== undefined) return posed
  const curve = curveNow(key)
  return curve && valueAt(curve, frame)
}

/** A joint's own pose as it is seen; undefined until its curves are here. */
export function poseNow(joint: number, frame = transport.frame): JointPose | undefined {
  const { clip } = useBench.getState()
  const constant = (key: ChannelKey): Curve | undefined => {
    const value = valueNow(key, frame)
    return value === undefined ? undefined : { kind: 'sampled', values: Float64Array.of(value) }
  }
  return clip ? jointPose(clip, joint, constant, 0) : undefined
}

/** The order of a joint's three turning channels, or null where it has fewer. */
function orderOf(joint: number): string | null {
  const { channels } = useBench.getState().clip!.joints[joint]!
  const order = channels.filter((c) => c[0] === 'r').map((c) => c[1]!)
  return order.length === 3 ? order.join('') : null
}

/** The values that give a joint a pose; channels that would stay are left out. */
export function valuesFor(joint: number, pose: JointPose): Map<ChannelKey, number> {
  const { clip } = useBench.getState()
  const { channels, offset } = clip!.joints[joint]!
  const out = new Map<ChannelKey, number>()
  const put = (name: string, value: number) => {
    const key = channelKey(joint, name)
    if (Math.abs(value - (valueNow(key) ?? value)) > 1e-9) out.set(key, value)
  }
  const order = orderOf(joint)
  if (order) {
    const names = [...order].map((axis) => `r${axis}`)
    const near = names.map((name) => valueNow(channelKey(joint, name)) ?? 0)
    const angles = anglesNear(pose.rotation, order, near)
    names.forEach((name, k) => {
      put(name, angles[k]!)
    })
  }
  const add = addsOffset(clip!, joint)
  for (const name of channels)
    if (name[0] === 't') {
      const k = 'xyz'.indexOf(name[1]!)
      put(name, pose.translation[k]! - (add ? offset[k]! : 0))
    }
  return out
}

/** A joint's pose turned about an axis of its own, or of the world where its parent's rotation
 * there is given. */
export function turnedJoint(
  from: JointPose,
  axis: readonly number[],
  degrees: number,
  parentWorld: Quat | null,
): JointPose {
  const by = turned(axis, degrees)
  if (!parentWorld) return { ...from, rotation: multiply(from.rotation, by) }
  const inside = multiply(multiply(inverse(parentWorld), by), parentWorld)
  return { ...from, rotation: multiply(inside, from.rotation) }
}

/** Whether a pose can be changed at now: one frame's change at a time is kept unkeyed. */
export function mayPose(): boolean {
  const { unkeyed } = get()
  if (!unkeyed || unkeyed.frame === transport.frame) return true
  notify(`The change at frame ${unkeyed.frame} is not keyed yet: key it or put it back first.`)
  return false
}

/** Show values at now without keeping them; with auto key the curves follow as well. */
export function showPose(values: Values): void {
  const frame = transport.frame
  live = { frame, values: new Map([...(shownAt(frame) ?? []), ...values]) }
  if (get().auto) showEdits(editsOf(live.values, frame))
  tell()
}

export function cancelPose(): void {
  live = null
  draft.drop()
  tell()
}

/** The change is let go of: keyed, or kept as what is not keyed yet. */
export function commitPose(values: Values = live?.values ?? new Map()): void {
  const frame = transport.frame
  const all = new Map([...(get().unkeyed?.values ?? []), ...values])
  live = null
  draft.drop()
  if (all.size) keep({ frame, values: all })
  tell()
  if (get().auto) void keyPose()
}

/** A key a channel at a frame, eased where it is new. */
function editsOf(values: Values, frame: number): Edits {
  const { curves } = useBench.getState()
  const edits: Edits = new Map()
  for (const [key, value] of values) {
    const curve = curves.get(key)
    if (curve?.kind !== 'keyed') continue
    const there = curve.time.indexOf(frame)
    const edit: KeyEdit =
      there >= 0
        ? { id: Number(curve.id[there]), frame, was: curve.value[there]!, value }
        : { id: freshId(curve), frame, do: 'make', value, handle: 'eased' }
    edits.set(key, [edit])
  }
  return edits
}

/** Channels of the unkeyed change that have a value on every frame: a key there would be a spike. */
export function denseOf(values: Values): ChannelKey[] {
  const { curves } = useBench.getState()
  return [...values.keys()].filter((key) => curves.get(key)?.kind === 'sampled')
}

/** Set keys for what is not keyed yet; what has a value on every frame stays to be decided on. */
export async function keyPose(): Promise<void> {
  const { unkeyed } = get()
  if (!unkeyed) return
  const edits = editsOf(unkeyed.values, unkeyed.frame)
  if (!edits.size) return
  const still = new Map([...unkeyed.values].filter(([key]) => !edits.has(key)))
  keep(still.size ? { frame: unkeyed.frame, values: still } : null)
  tell()
  // What could not be kept on the server comes back into sight as unkeyed.
  if (!(await commitEdits(edits))) keep(unkeyed)
}

export function putBack(): void {
  keep(null)
  live = null
  tell()
}

/** Lead the motion to the pose softly, in the channels that have a value on every frame. */
export async function offsetSoftly(): Promise<void> {
  const { unkeyed, radius } = get()
  const { clip } = useBench.getState()
  if (!unkeyed || !clip) return
  const dense = new Set(denseOf(unkeyed.values))
  const joints = jointsOf(dense)
  const offsets = joints.flatMap((joint) => {
    const there = poseNow(joint, unkeyed.frame)
    const here = jointPose(clip, joint, curveNow, unkeyed.frame)
    if (!there || !here) return []
    return [
      {
        joint: clip.joints[joint]!.name,
        turn: turnOf(multiply(inverse(here.rotation), there.rotation)),
        move: there.translation.map((v, k) => v - here.translation[k]!),
      },
    ]
  })
  const params = { frame: unkeyed.frame, radius, offsets }
  if (!(await apply('soft_offset', params))) return
  const rest = new Map([...unkeyed.values].filter(([key]) => !dense.has(key)))
  keep(rest.size ? { frame: unkeyed.frame, values: rest } : null)
  tell()
}

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
  const changed = [...pasted].filter(([key, value]) => Math.abs(value - valueNow(key)!) > 1e-9)
  commitPose(new Map(changed))
}

/** Key the pose at now on a part of the body, or on the selected joints. */
export async function keyPart(group: string | null): Promise<void> {
  const { clip, joints, body } = useBench.getState()
  if (!clip) return
  const own = group ? body?.own_groups[group] : joints
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
