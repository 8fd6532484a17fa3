/** Poses by hand on the stage: keyed at once, or by hand with what is not keyed yet kept in sight.
 *
 * A change that has not been keyed is kept with its frame until it is keyed or put back: through
 * scrubbing, undo, other steps and a reload.
 */

import { create } from 'zustand'
import { answer, client, textOf } from '../api/client'
import {
  after,
  type Correction,
  type Corrections,
  corrected,
  NO_CORRECTIONS,
} from '../evaluation/corrections'
import { BASE, type ChannelKey, type Curve, channelKey, valueAt } from '../evaluation/curves'
import { type Edits, freshId, type KeyEdit } from '../evaluation/keys'
import { placed, unplaced } from '../evaluation/layering'
import { jointsOf } from '../evaluation/owners'
import { localAt } from '../evaluation/poses'
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
} from '../evaluation/rotations'
import { bringCurves } from '../sync/confirmed'
import { apply } from '../sync/write'
import { notify, useBench } from '../view/bench'
import { draft } from '../view/draft'
import { transport } from '../view/transport'
import { commitEdits, showEdits } from './edits'
import { chosenLayer, keyFurther, whyNoKeys } from './layers'
import { inMillimetres } from './lengths'

export type Values = ReadonlyMap<ChannelKey, number>

/** What a hand does to joints: their channels' values, or corrections on the layer that is chosen. */
export interface Change {
  values: Values
  by: Corrections
}

export interface Unkeyed extends Change {
  frame: number
  /** The layer whose keys it shall become; null for the clip's own curves. */
  layer: number | null
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

/** As it is kept in the browser; there were no layers once. */
interface Kept {
  frame: number
  layer?: number | null
  values: [ChannelKey, number][]
  by?: [number, Correction][]
}

function keep(unkeyed: Unkeyed | null): void {
  const clip = useBench.getState().clip?.id
  set({ unkeyed })
  if (clip === undefined) return
  if (unkeyed)
    localStorage.setItem(
      place(clip),
      JSON.stringify({ ...unkeyed, values: [...unkeyed.values], by: [...unkeyed.by] }),
    )
  else localStorage.removeItem(place(clip))
}

// What was left unkeyed in a clip is there again when it is opened.
useBench.subscribe(({ clip }, { clip: before }) => {
  if (clip?.id === before?.id) return
  const text = clip && localStorage.getItem(place(clip.id))
  const kept = text ? (JSON.parse(text) as Kept) : null
  live = null
  // Channels were kept without their owner once.
  const whole = (key: ChannelKey) => (key.split('/').length === 2 ? `${BASE}/${key}` : key)
  const values = new Map((kept?.values ?? []).map(([key, value]) => [whole(key), value]))
  const by = new Map(kept?.by ?? [])
  set({ unkeyed: kept && { frame: kept.frame, layer: kept.layer ?? null, values, by } })
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

/** What is corrected at a frame and the server's poses do not have, with what is being dragged or
 * without it. */
function correctedAt(frame: number, own: Unkeyed | null): Corrections {
  const landing = draft.landing.filter((x) => x.frame === frame).map((x) => x.by)
  return [...landing, own?.frame === frame ? own.by : NO_CORRECTIONS].reduce(after, NO_CORRECTIONS)
}

export const correctionsAt = (frame: number): Corrections =>
  correctedAt(frame, live ?? get().unkeyed)

/** A joint's pose as it is seen at now, with what is corrected; of what is being dragged before it
 * was taken hold of. */
function seenPose(joint: number): JointPose | undefined {
  const { clip, poses } = useBench.getState()
  const { frame } = transport
  if (!clip || !poses) return undefined
  const by = correctedAt(frame, get().unkeyed).get(joint)
  const pose = localAt(clip.joints, poses, joint, frame)
  return by ? corrected(pose, by) : pose
}

/** A joint's pose that a hand goes on from: as it is seen where a layer takes keys, else its own,
 * where the clip stands. */
export function poseToHand(joint: number): JointPose | undefined {
  if (chosenLayer()) return seenPose(joint)
  const own = poseNow(joint)
  return own && placed(useBench.getState().clip!, joint, own)
}

/** What has to be changed for joints to stand so, in the layer that takes keys or in the channels. */
export function changeFor(wanted: ReadonlyMap<number, JointPose>): Change {
  const layer = chosenLayer()
  const { clip } = useBench.getState()
  const values = new Map<ChannelKey, number>()
  const by = new Map<number, Correction>()
  for (const [joint, pose] of wanted)
    if (layer) {
      const was = seenPose(joint)!
      const move = pose.translation.map((v, k) => v - was.translation[k]!)
      by.set(joint, { turn: multiply(inverse(was.rotation), pose.rotation), move })
    } else
      for (const [key, value] of valuesFor(joint, unplaced(clip!, joint, pose)))
        values.set(key, value)
  return { values, by }
}

export const ofValues = (values: Values): Change => ({ values, by: NO_CORRECTIONS })

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

/** Whether a pose can be changed at now: one frame's change on one layer at a time is kept unkeyed,
 * and a layer has to take keys. */
export function mayPose(): boolean {
  const { unkeyed } = get()
  const layer = chosenLayer()
  const elsewhere =
    unkeyed && (unkeyed.frame !== transport.frame || unkeyed.layer !== (layer?.id ?? null))
  const why = elsewhere
    ? `The change at frame ${unkeyed.frame} on ${ownerOfUnkeyed(unkeyed)} is not keyed yet: key it or put it back first.`
    : layer && whyNoKeys(layer)
  if (why) notify(why)
  return !why
}

/** Whose keys an unkeyed change would become, in words. */
export function ownerOfUnkeyed({ layer }: Unkeyed): string {
  const { clip } = useBench.getState()
  if (layer === null) return 'the clip’s own curves'
  return clip?.layers.find((x) => x.id === layer)?.name ?? 'a layer that is no more'
}

/** What is not keyed yet at now, with a change. */
function unkeyedWith(change: Change): Unkeyed {
  const { unkeyed } = get()
  return {
    frame: transport.frame,
    layer: chosenLayer()?.id ?? null,
    // Channels that would stay are left out of a change: while it is dragged they stay as they are
    // seen.
    values: new Map([...((live ?? unkeyed)?.values ?? []), ...change.values]),
    by: after(unkeyed?.by ?? NO_CORRECTIONS, change.by),
  }
}

/** Show a change at now without keeping it; with auto key the curves follow as well. */
export function showPose(change: Change): void {
  live = unkeyedWith(change)
  if (get().auto) showEdits(editsOf(live.values, live.frame))
  tell()
}

export function cancelPose(): void {
  live = null
  draft.drop()
  tell()
}

/** The change is let go of: keyed, or kept as what is not keyed yet. */
export function commitPose(change?: Change): void {
  const all = change ? unkeyedWith(change) : live
  live = null
  draft.drop()
  if (all && all.values.size + all.by.size) keep(all)
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
  if (unkeyed.layer !== null) {
    await keyCorrections(unkeyed, unkeyed.layer)
    return
  }
  const edits = editsOf(unkeyed.values, unkeyed.frame)
  if (!edits.size) return
  const still = new Map([...unkeyed.values].filter(([key]) => !edits.has(key)))
  keep(still.size ? { ...unkeyed, values: still } : null)
  tell()
  // What could not be kept on the server comes back into sight as unkeyed.
  if (!(await commitEdits(edits))) keep(unkeyed)
}

/** Corrections become keys of their layer; the core finds which, through all that lies over it. */
async function keyCorrections(unkeyed: Unkeyed, id: number): Promise<void> {
  const layer = useBench.getState().clip?.layers.find((x) => x.id === id)
  if (!layer) {
    notify('The layer is no more: put the change back, or undo its removal.')
    return
  }
  keep(null)
  if (await keyFurther(layer, unkeyed)) return
  keep(unkeyed)
  tell()
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
        move: inMillimetres(
          clip,
          there.translation.map((v, k) => v - here.translation[k]!),
        ),
      },
    ]
  })
  const params = { frame: unkeyed.frame, radius, offsets }
  if (!(await apply('soft_offset', params))) return
  const rest = new Map([...unkeyed.values].filter(([key]) => !dense.has(key)))
  keep(rest.size ? { ...unkeyed, values: rest } : null)
  tell()
}
