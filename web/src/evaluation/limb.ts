/** Two-bone limbs, as the core solves them (figure/limb.py): held to it by vectors it writes. */
import { multiply, type Quat, rotate } from './rotations'

export type Vec = [number, number, number]

const sine = (degrees: number) => Math.sin((degrees * Math.PI) / 180)
const BLEND = [sine(2), sine(6)] as const
const WRONG_SIDE = (-15 * Math.PI) / 180
const LEAST_BACK = (4 * Math.PI) / 180
const SOFT = 0.01
const TINY = 1e-12

export const add = (a: Vec, b: Vec): Vec => [a[0] + b[0], a[1] + b[1], a[2] + b[2]]
export const sub = (a: Vec, b: Vec): Vec => [a[0] - b[0], a[1] - b[1], a[2] - b[2]]
export const times = (a: Vec, k: number): Vec => [a[0] * k, a[1] * k, a[2] * k]
export const dot = (a: Vec, b: Vec): number => a[0] * b[0] + a[1] * b[1] + a[2] * b[2]
export const length = (a: Vec): number => Math.hypot(a[0], a[1], a[2])
export const cross = (a: Vec, b: Vec): Vec => [
  a[1] * b[2] - a[2] * b[1],
  a[2] * b[0] - a[0] * b[2],
  a[0] * b[1] - a[1] * b[0],
]
const unit = (a: Vec): Vec => times(a, 1 / Math.max(length(a), TINY))

function smoothstep(x: number, low: number, high: number): number {
  const t = Math.min(1, Math.max(0, (x - low) / (high - low)))
  return t * t * (3 - 2 * t)
}

/** A unit vector across another. */
function across(a: Vec): Vec {
  const size = a.map(Math.abs)
  const least = size.indexOf(Math.min(...size))
  const axis: Vec = [0, 0, 0]
  axis[least] = 1
  return unit(cross(a, axis))
}

/** A direction made square to a unit one, any such where it lies along it. */
function squareTo(a: Vec, line: Vec): Vec {
  const out = sub(a, times(line, dot(a, line)))
  return length(out) < 1e-9 ? across(line) : unit(out)
}

function about(axis: Vec, angle: number): Quat {
  const s = Math.sin(angle / 2)
  return [axis[0] * s, axis[1] * s, axis[2] * s, Math.cos(angle / 2)]
}

/** The shortest turn that brings one direction to another; half a turn about `axis` if opposite. */
export function arc(a: Vec, b: Vec, axis: Vec): Quat {
  if (length(a) < TINY || length(b) < TINY) return [0, 0, 0, 1]
  const [u, v] = [unit(a), unit(b)]
  const [x, y, z] = cross(u, v)
  const w = 1 + dot(u, v)
  const size = Math.hypot(x, y, z, w)
  if (size < 1e-9) return [...squareTo(axis, u), 0]
  return [x / size, y / size, z / size, w / size]
}

/** The axis about which a limb bends, square to its upper bone, and by how much (rad). */
function bendOf(u: Vec, normal: Vec, along: number, usual: Vec): [Vec, number] {
  const size = length(normal)
  const own = along < 0 ? 1 : smoothstep(size, BLEND[0], BLEND[1])
  const side = dot(normal, usual) < 0 ? -1 : 1
  const mixed = add(times(usual, 1 - own), times(unit(normal), own * side))
  const axis = squareTo(mixed, u)
  const bend = Math.atan2(dot(axis, normal), along)
  return bend < WRONG_SIDE ? [times(axis, -1), -bend] : [axis, bend]
}

/** A distance that a limb can have: softly up to its length, from where it stood at least. */
function withinReach(distance: number, was: number, upper: number, lower: number): number {
  const whole = upper + lower
  const soft = Math.max(Math.min(SOFT * whole, whole - was), 0)
  const over = distance - whole + soft
  let out = distance
  if (over > 0)
    out = Math.min(whole - soft * Math.exp(-Math.min(over / Math.max(soft, TINY), 700)), whole)
  return Math.max(out, Math.abs(upper - lower))
}

/** World rotations of upper and middle joint that bring the end to a target. */
export function reach(
  turns: readonly [Quat, Quat],
  points: readonly [Vec, Vec, Vec],
  target: Vec,
  hinge: Vec,
): [Quat, Quat] {
  const [h, k, a] = points
  const [first, second] = [sub(k, h), sub(a, k)]
  const [upper, lower] = [length(first), length(second)]
  const [u, v] = [unit(first), unit(second)]
  const normal = cross(u, v)
  const along = dot(u, v)
  const usual = squareTo(rotate(turns[0], hinge), u)
  const [axis, bend] = bendOf(u, normal, along, usual)
  const was = length(sub(a, h))
  const wanted = withinReach(length(sub(target, h)), was, upper, lower)
  const bones = Math.max(2 * upper * lower, TINY)
  const level = Math.max(Math.hypot(along, dot(axis, normal)), TINY)
  const cosine = (wanted ** 2 - upper ** 2 - lower ** 2) / bones / level
  const angle = Math.acos(Math.min(1, Math.max(-1, cosine)))
  // An over-straight limb stays so as far as it stays nearly straight.
  const margin = Math.max(LEAST_BACK, -bend)
  const back = 2 * Math.min(bend, 0) * (1 - smoothstep(angle, margin, 2.5 * margin))
  const still = Math.abs(wanted - was) <= TINY * (upper + lower)
  const turn = about(axis, still ? 0 : angle + back - bend)
  const end = add(k, rotate(turn, second))
  const swing = arc(sub(end, h), sub(target, h), axis)
  return [multiply(swing, turns[0]), multiply(multiply(swing, turn), turns[1])]
}
