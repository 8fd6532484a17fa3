/** The rows of the timing sheet: all of the body, its parts, their joints and channels. */
import type { Schemas } from '../api/client'
import type { Clip } from '../clip/bench'
import {
  type ChannelKey,
  type Curve,
  channelKey,
  channelTitle,
  type KeyedCurve,
  MUTED,
  RIDING,
} from '../clip/curves'

export interface Row {
  id: string
  label: string
  kind: 'body' | 'part' | 'joint' | 'channel'
  depth: number
  channels: readonly ChannelKey[]
  /** The joints that a press on its name selects. */
  joints: readonly number[]
}

export const BODY = 'body'

/** The rows that are seen: a row's children where it is open. */
export function rowsOf(
  clip: Clip,
  body: Schemas['BodyOut'] | null,
  open: ReadonlySet<string>,
  only: ReadonlySet<number> | null,
): Row[] {
  const own = (j: number) => clip.joints[j]!.channels.map((c) => channelKey(j, c))
  const listed = clip.joints
    .map((_, j) => j)
    .filter((j) => own(j).length && (only === null || only.has(j)))
  const rows: Row[] = [
    {
      id: BODY,
      label: only ? 'Selected joints' : 'Whole body',
      kind: 'body',
      depth: 0,
      channels: listed.flatMap(own),
      joints: listed,
    },
  ]
  const parts = new Map(Object.entries(body?.groups ?? {}))
  const grouped = new Set([...parts.values()].flat())
  const rest = listed.filter((j) => !grouped.has(j))
  if (rest.length) parts.set('other joints', rest)
  for (const [name, members] of parts) {
    const joints = members.filter((j) => listed.includes(j))
    if (!joints.length) continue
    const id = `part ${name}`
    rows.push({
      id,
      label: name,
      kind: 'part',
      depth: 0,
      channels: joints.flatMap(own),
      joints,
    })
    if (open.has(id)) for (const j of joints) rows.push(...jointRows(clip, j, open))
  }
  return rows
}

function jointRows(clip: Clip, j: number, open: ReadonlySet<string>): Row[] {
  const { name, channels } = clip.joints[j]!
  const id = `joint ${j}`
  const joint: Row = {
    id,
    label: name,
    kind: 'joint',
    depth: 1,
    channels: channels.map((c) => channelKey(j, c)),
    joints: [j],
  }
  if (!open.has(id)) return [joint]
  const below = channels.map(
    (c): Row => ({
      id: channelKey(j, c),
      label: channelTitle(c),
      kind: 'channel',
      depth: 2,
      channels: [channelKey(j, c)],
      joints: [j],
    }),
  )
  return [joint, ...below]
}

/** What is worth marking about keys: bits, so that a row above carries those of all below it. */
export const [SELECTED, IS_MUTED, RIDES, OFF_FRAME, DOUBLED, HELD, STRAIGHT, SWINGS] = [
  1, 2, 4, 8, 16, 32, 64, 128,
] as const

/** Closer than this two keys are one key doubled; further than that from a frame one is off it. */
const TWINS = 0.5
const ON_FRAME = 1e-6

/** Keys of one curve: times and what is worth marking, selection aside. */
export interface Times {
  time: Float64Array
  marks: Uint8Array
}

const known = new WeakMap<KeyedCurve, Times>()

function timesOf(curve: KeyedCurve): Times {
  let found = known.get(curve)
  if (found) return found
  const { time, flags, segment } = curve
  const marks = time.map(() => 0) as unknown as number[]
  for (let k = 0; k < time.length; k++) {
    let mark = 0
    if (flags[k]! & MUTED) mark |= IS_MUTED
    else if (k + 1 < time.length && time[k + 1]! - time[k]! < TWINS) mark |= DOUBLED
    else if (k > 0 && time[k]! - time[k - 1]! < TWINS) mark |= DOUBLED
    if (flags[k]! & RIDING) mark |= RIDES
    else if (Math.abs(time[k]! - Math.round(time[k]!)) > ON_FRAME) mark |= OFF_FRAME
    mark |= [0, STRAIGHT, HELD, SWINGS, SWINGS][segment[k]!]!
    marks[k] = mark
  }
  found = { time, marks: Uint8Array.from(marks) }
  known.set(curve, found)
  return found
}

/** A row's keys: where one stands, in how many of its keyed channels, and what is marked. */
export interface Union {
  time: Float64Array
  count: Uint16Array
  marks: Uint8Array
  /** Keyed channels of the row. */
  keyed: number
}

/** The union of a row's channels: each time once, with the keys that stand there. */
export function unionOf(
  channels: readonly ChannelKey[],
  curve: (key: ChannelKey) => Curve | undefined,
  selected: ReadonlyMap<ChannelKey, ReadonlySet<number>>,
): Union {
  const at = new Map<number, number>()
  const times: number[] = []
  const counts: number[] = []
  const marks: number[] = []
  let keyed = 0
  for (const key of channels) {
    const found = curve(key)
    if (found?.kind !== 'keyed') continue
    keyed++
    const own = timesOf(found)
    const chosen = selected.get(key)
    for (let k = 0; k < own.time.length; k++) {
      const t = own.time[k]!
      let n = at.get(t)
      if (n === undefined) {
        n = times.length
        at.set(t, n)
        times.push(t)
        counts.push(0)
        // What only counts where all have it begins as if they had.
        marks.push(IS_MUTED | RIDES | HELD | STRAIGHT | SWINGS)
      }
      counts[n]!++
      const mark = own.marks[k]!
      const shared = marks[n]! & mark & (IS_MUTED | RIDES | HELD | STRAIGHT | SWINGS)
      const any = (marks[n]! | mark) & (OFF_FRAME | DOUBLED)
      const picked = chosen?.has(Number(found.id[k])) ? SELECTED : marks[n]! & SELECTED
      marks[n] = shared | any | picked
    }
  }
  const order = times.map((_, n) => n).sort((a, b) => times[a]! - times[b]!)
  return {
    time: Float64Array.from(order, (n) => times[n]!),
    count: Uint16Array.from(order, (n) => counts[n]!),
    marks: Uint8Array.from(order, (n) => marks[n]!),
    keyed,
  }
}
