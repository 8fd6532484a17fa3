/** A body's skin where joints stand somewhere, beside three.js' own skinning. */
import {
  Bone,
  BufferAttribute,
  BufferGeometry,
  Matrix4,
  Quaternion,
  Skeleton,
  SkinnedMesh,
  Vector3,
} from 'three'
import { describe, expect, it } from 'vitest'
import type { Message } from '../api/safetensors'
import { emptyWorld } from './poses'
import { Skin } from './skin'

/** Numbers between 0 and 1 that are the same each time. */
function random(seed: number): () => number {
  let state = seed
  return () => {
    state = (1664525 * state + 1013904223) % 2 ** 32
    return state / 2 ** 32
  }
}

const JOINTS = 5
const POINTS = 60

function made() {
  const next = random(7)
  const some = (n: number) => Array.from({ length: n }, () => 2 * next() - 1)
  const turned = () => new Quaternion(...(some(4) as [number, number, number, number])).normalize()
  const binds = Array.from({ length: JOINTS }, () =>
    new Matrix4().compose(new Vector3(...some(3)), turned(), new Vector3(1, 1, 1)),
  )
  const joints = Array.from({ length: 4 * POINTS }, () => Math.floor(JOINTS * next()))
  const weights = Array.from({ length: POINTS }, () => {
    const raw = [next() + 0.5, next(), next() > 0.5 ? next() : 0, 0]
    const sum = raw.reduce((a, b) => a + b)
    const whole = raw.map((v) => Math.round((65_535 * v) / sum))
    whole[0]! += 65_535 - whole.reduce((a, b) => a + b)
    return whole
  }).flat()
  const points = new Float32Array(some(3 * POINTS))
  const triangles = new Int32Array(POINTS - 2 + (POINTS - 2) * 2)
  for (let t = 0; t < POINTS - 2; t++) triangles.set([t, t + 1, t + 2], 3 * t)
  const rows = binds.flatMap(({ elements: e }) =>
    [0, 1, 2].flatMap((row) => [0, 1, 2, 3].map((column) => e[4 * column + row]!)),
  )
  const arrays: Message['arrays'] = new Map([
    ['points', { data: points, shape: [POINTS, 3] }],
    ['triangles', { data: triangles, shape: [POINTS - 2, 3] }],
    ['joints', { data: new Uint16Array(joints), shape: [POINTS, 4] }],
    ['weights', { data: new Uint16Array(weights), shape: [POINTS, 4] }],
    ['binds', { data: new Float64Array(rows), shape: [JOINTS, 3, 4] }],
  ] as [string, { data: Float32Array; shape: number[] }][])
  const world = emptyWorld(JOINTS)
  world.position.set(some(3 * JOINTS))
  for (let j = 0; j < JOINTS; j++) world.rotation.set(turned().toArray(), 4 * j)
  return { skin: new Skin({ arrays, about: {} }), world, binds, points, joints, weights }
}

describe('a skin', () => {
  it('carries its points as three.js does', () => {
    const { skin, world, binds, points, joints, weights } = made()
    const geometry = new BufferGeometry()
    geometry.setAttribute('position', new BufferAttribute(points, 3))
    geometry.setAttribute('skinIndex', new BufferAttribute(new Uint16Array(joints), 4))
    const share = new Float32Array(weights.map((v) => v / 65_535))
    geometry.setAttribute('skinWeight', new BufferAttribute(share, 4))
    const bones = binds.map((_, j) => {
      const bone = new Bone()
      bone.position.fromArray(world.position, 3 * j)
      bone.quaternion.fromArray(world.rotation, 4 * j)
      bone.updateMatrixWorld(true)
      return bone
    })
    const mesh = new SkinnedMesh(geometry)
    mesh.bind(new Skeleton(bones, binds), new Matrix4())
    const [out, normals] = [new Float32Array(3 * POINTS), new Float32Array(3 * POINTS)]
    skin.pose(world, out, normals)
    const theirs = new Vector3()
    for (let n = 0; n < POINTS; n++) {
      mesh.applyBoneTransform(n, theirs.fromArray(points, 3 * n))
      for (let k = 0; k < 3; k++) expect(out[3 * n + k]).toBeCloseTo(theirs.getComponent(k), 5)
      expect(Math.hypot(...normals.slice(3 * n, 3 * n + 3))).toBeCloseTo(1, 5)
    }
  })

  it('says how much of a point some joints carry', () => {
    const { skin, joints, weights } = made()
    const out = new Float32Array(POINTS)
    skin.share(new Set([1, 3]), out)
    for (let n = 0; n < POINTS; n++) {
      let sum = 0
      for (let i = 4 * n; i < 4 * n + 4; i++)
        if (joints[i] === 1 || joints[i] === 3) sum += weights[i]! / 65_535
      expect(out[n]).toBeCloseTo(sum, 5)
    }
    skin.share(new Set([0, 1, 2, 3, 4]), out)
    expect(Math.min(...out)).toBeCloseTo(1, 5)
    expect(skin.fits(JOINTS)).toBe(true)
    expect(skin.fits(JOINTS + 1)).toBe(false)
  })
})
