/** A body's skin, and its points where joints stand somewhere: linear blend skinning, as
 * `core/leancurve/figure/skin.py` has it. */
import type { Message } from '../api/safetensors'
import type { WorldPose } from './poses'
import { matrixOf } from './rotations'

/** What the weights of a point add up to. */
const WHOLE = 65_535

export class Skin {
  /** Points as they were bound (N, 3), with the normals of the surface there. */
  readonly points: Float32Array
  readonly normals: Float32Array
  readonly triangles: Uint32Array
  /** Where each point's joints begin in the two lists below: (N + 1). */
  readonly starts: Int32Array
  readonly joints: Uint16Array
  readonly weights: Float32Array
  /** Into each joint's own space: (J, 3, 4). */
  private binds: Float64Array
  private carry: Float64Array

  constructor({ arrays }: Message) {
    const get = (name: string) => arrays.get(name)!
    this.points = get('points').data as Float32Array
    this.triangles = new Uint32Array(get('triangles').data as Int32Array)
    this.binds = get('binds').data as Float64Array
    this.carry = new Float64Array(this.binds.length)
    const [count, most] = get('weights').shape as [number, number]
    const [which, share] = [get('joints').data, get('weights').data] as Uint16Array[]
    this.starts = new Int32Array(count + 1)
    const [joints, weights]: [number[], number[]] = [[], []]
    for (let n = 0; n < count; n++) {
      for (let i = n * most; i < (n + 1) * most; i++) {
        if (!share![i]) continue
        joints.push(which![i]!)
        weights.push(share![i]! / WHOLE)
      }
      this.starts[n + 1] = joints.length
    }
    this.joints = new Uint16Array(joints)
    this.weights = new Float32Array(weights)
    this.normals = normalsOf(this.points, this.triangles)
  }

  get count(): number {
    return this.points.length / 3
  }

  /** Whether a skeleton has as many joints as it was made for. */
  fits(joints: number): boolean {
    return this.binds.length === 12 * joints
  }

  /** The joint that a point follows most. */
  leader(point: number): number {
    return this.joints[this.starts[point]!] ?? 0
  }

  /** Points and normals (N, 3) where joints stand so. */
  pose({ position, rotation }: WorldPose, points: Float32Array, normals: Float32Array): void {
    const { binds, carry, starts, joints, weights } = this
    for (let j = 0; 12 * j < binds.length; j++) {
      const [x, y, z, w] = rotation.subarray(4 * j, 4 * j + 4)
      const turned = matrixOf([x!, y!, z!, w!])
      for (let row = 0; row < 3; row++)
        for (let column = 0; column < 4; column++) {
          let sum = column === 3 ? position[3 * j + row]! : 0
          for (let k = 0; k < 3; k++) sum += turned[row]![k]! * binds[12 * j + 4 * k + column]!
          carry[12 * j + 4 * row + column] = sum
        }
    }
    const { points: from, normals: across } = this
    // Numbers by themselves, no lists: this runs for each point of each picture.
    for (let n = 0, i = 0; i < from.length; n++, i += 3) {
      let a = 0
      let b = 0
      let c = 0
      let d = 0
      let e = 0
      let f = 0
      let g = 0
      let h = 0
      let k = 0
      let l = 0
      let m = 0
      let o = 0
      for (let s = starts[n]!; s < starts[n + 1]!; s++) {
        const w = weights[s]!
        const at = 12 * joints[s]!
        a += w * carry[at]!
        b += w * carry[at + 1]!
        c += w * carry[at + 2]!
        d += w * carry[at + 3]!
        e += w * carry[at + 4]!
        f += w * carry[at + 5]!
        g += w * carry[at + 6]!
        h += w * carry[at + 7]!
        k += w * carry[at + 8]!
        l += w * carry[at + 9]!
        m += w * carry[at + 10]!
        o += w * carry[at + 11]!
      }
      const x = from[i]!
      const y = from[i + 1]!
      const z = from[i + 2]!
      points[i] = a * x + b * y + c * z + d
      points[i + 1] = e * x + f * y + g * z + h
      points[i + 2] = k * x + l * y + m * z + o
      const u = across[i]!
      const v = across[i + 1]!
      const t = across[i + 2]!
      const nx = a * u + b * v + c * t
      const ny = e * u + f * v + g * t
      const nz = k * u + l * v + m * t
      const size = 1 / (Math.sqrt(nx * nx + ny * ny + nz * nz) || 1)
      normals[i] = nx * size
      normals[i + 1] = ny * size
      normals[i + 2] = nz * size
    }
  }

  /** How much of each point some joints carry, 0 to 1. */
  share(chosen: ReadonlySet<number>, out: Float32Array): void {
    const { starts, joints, weights } = this
    for (let n = 0; n < this.count; n++) {
      let sum = 0
      for (let s = starts[n]!; s < starts[n + 1]!; s++)
        if (chosen.has(joints[s]!)) sum += weights[s]!
      out[n] = Math.min(sum, 1)
    }
  }
}

/** Normals (N, 3) of a surface at its points: of all triangles there, the large ones count more. */
function normalsOf(points: Float32Array, triangles: Uint32Array): Float32Array {
  const out = new Float32Array(points.length)
  for (let t = 0; t < triangles.length; t += 3) {
    const [p, q, r] = [3 * triangles[t]!, 3 * triangles[t + 1]!, 3 * triangles[t + 2]!]
    const [ax, ay, az] = [0, 1, 2].map((k) => points[q + k]! - points[p + k]!) as Triple
    const [bx, by, bz] = [0, 1, 2].map((k) => points[r + k]! - points[p + k]!) as Triple
    const normal = [ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx]
    for (const at of [p, q, r]) for (let k = 0; k < 3; k++) out[at + k]! += normal[k]!
  }
  for (let i = 0; i < out.length; i += 3) {
    const size = Math.hypot(out[i]!, out[i + 1]!, out[i + 2]!) || 1
    for (let k = 0; k < 3; k++) out[i + k]! /= size
  }
  return out
}

type Triple = [number, number, number]
