/** Joints that shall stand otherwise than they do: what a hand does onto a layer, before it is keys. */
import { type JointPose, multiply, type Quat } from './rotations'

/** Turned further about its own axes, moved in the axes of the joint above it. */
export interface Correction {
  turn: Quat
  move: readonly number[]
}
export type Corrections = ReadonlyMap<number, Correction>

/** Corrections at a frame. */
export interface Corrected {
  frame: number
  by: Corrections
}

export const NO_CORRECTIONS: Corrections = new Map()
const STILL: Correction = { turn: [0, 0, 0, 1], move: [0, 0, 0] }

/** One correction after another. */
export function after(first: Corrections, then: Corrections): Corrections {
  if (!first.size) return then
  const out = new Map(first)
  for (const [joint, { turn, move }] of then) {
    const was = first.get(joint) ?? STILL
    out.set(joint, {
      turn: multiply(was.turn, turn),
      move: move.map((v, k) => v + was.move[k]!),
    })
  }
  return out
}

/** A pose with a correction. */
export const corrected = (pose: JointPose, { turn, move }: Correction): JointPose => ({
  rotation: multiply(pose.rotation, turn),
  translation: pose.translation.map((v, k) => v + move[k]!) as JointPose['translation'],
})
