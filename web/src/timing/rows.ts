/** The rows of the timing sheet: all of the body, its parts, their joints and channels. */
import type { Schemas } from '../api/client'
import {
  type ChannelKey,
  type Curve,
  channelKey,
  channelTitle,
  type KeyedCurve,
  MUTED,
  RIDING,
  splitKey,
} from '../evaluation/curves'
import { maskOf } from '../evaluation/keys'
import type { Clip } from '../evaluation/model'
import { allOfLayer, channelsOfLayer, channelsOfProp, weightOf } from '../evaluation/owners'

export interface Row {
  id: string
  label: string
  kind: 'body' | 'part' | 'joint' | 'prop' | 'channel'
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
    ...(only ? [] : layerRows(clip, open)),
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
  return only ? rows : [...rows, ...propRows(clip, open)]
}

const LAYERS = 'part layers'

/** Layers under a heading of their own, on top: the topmost first, its weight and its joints. */
function layerRows(clip: Clip, open: ReadonlySet<string>): Row[] {
  if (!clip.layers.length) return []
  const rows: Row[] = [
    {
      id: LAYERS,
      label: 'layers',
      kind: 'part',
      depth: 0,
      channels: clip.layers.flatMap(allOfLayer),
      joints: [],
    },
  ]
  if (!open.has(LAYERS)) return rows
  for (const layer of [...clip.layers].reverse()) {
    const id = `layer ${layer.id}`
    const channels = allOfLayer(layer)
    rows.push({ id, label: layer.name, kind: 'prop', depth: 1, channels, joints: [] })
    if (!open.has(id)) continue
    rows.push(channelRow(weightOf(layer), []))
    for (const joint of Object.keys(layer.channels).map(Number)) {
      const own = channelsOfLayer(layer, joint)
      const label = clip.joints[joint]!.name
      rows.push({
        id: `${id} ${joint}`,
        label,
        kind: 'channel',
        depth: 2,
        channels: own,
        joints: [],
      })
    }
  }
  return rows
}

const PROPS = 'part props'

/** Props under a heading of their own, below the body. */
function propRows(clip: Clip, open: ReadonlySet<string>): Row[] {
  if (!clip.props.length) return []
  const all = clip.props.flatMap((p) => channelsOfProp(p.id))
  const rows: Row[] = [
    { id: PROPS, label: 'props', kind: 'part', depth: 0, channels: all, joints: [] },
  ]
  if (!open.has(PROPS)) return rows
  for (const prop of clip.props) {
    const channels = channelsOfProp(prop.id)
    const id = `prop ${prop.id}`
    rows.push({ id, label: prop.name, kind: 'prop', depth: 1, channels, joints: [] })
    if (open.has(id)) rows.push(...channels.map((key) => channelRow(key, [])))
  }
  return rows
}

const channelRow = (key: ChannelKey, joints: readonly number[]): Row => ({
  id: key,
  label: channelTitle(splitKey(key).channel),
  kind: 'channel',
  depth: 2,
  channels: [key],
  joints,
})

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
  return [joint, ...channels.map((c) => channelRow(channelKey(j, c), [j]))]
}

/** What is worth marking about keys: bits, so that a row above carries those of all below it. */
export const [SELECTED, IS_MUTED, RIDES, OFF_FRAME, DOUBLED, HELD, STRAIGHT, SWINGS] = [
  1, 2, 4, 8, 16, 32, 64, 128,
] as const

/** What only counts where all keys of a row at one time have it. */
const SHARED = IS_MUTED | RIDES | HELD | STRAIGHT | SWINGS

/** Closer than this two keys are one key doubled; further than that from a frame one is off it. */
const TWINS = 0.5
const ON_FRAME = 1e-6

/** What a segment of each kind is marked as. */
const AFTER = [0, STRAIGHT, HELD, SWINGS, SWINGS] as const

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
  const marks = new Uint8Array(time.length)
  for (let k = 0; k < time.length; k++) {
    let mark = 0
    if (flags[k]! & MUTED) mark |= IS_MUTED
    else if (k + 1 < time.length && time[k + 1]! - time[k]! < TWINS) mark |= DOUBLED
    else if (k > 0 && time[k]! - time[k - 1]! < TWINS) mark |= DOUBLED
    if (flags[k]! & RIDING) mark |= RIDES
    else if (Math.abs(time[k]! - Math.round(time[k]!)) > ON_FRAME) mark |= OFF_FRAME
    mark |= AFTER[segment[k]!]!
    marks[k] = mark
  }
  found = { time, marks }
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

/** Frames up to which keys are counted in a table. */
const LONGEST = 100_000

/** Keys counted by their times: those on whole frames in a table, in order as they come. */
class Tally {
  private counts: Uint16Array
  private marks: Uint8Array
  private between = new Map<number, [count: number, marks: number]>()

  constructor(last: number) {
    const size = Math.min(Math.max(Math.ceil(last), 0), LONGEST) + 1
    this.counts = new Uint16Array(size)
    this.marks = new Uint8Array(size)
  }

  /** Keys at times; each counts once, or as often as is said. */
  add(time: Float64Array, mark: Uint8Array, picked?: Uint8Array, count?: Uint16Array): void {
    const { counts, marks } = this
    for (let k = 0; k < time.length; k++) {
      const t = time[k]!
      const frame = t | 0
      const own = picked?.[k] ? mark[k]! | SELECTED : mark[k]!
      const n = count ? count[k]! : 1
      if (frame !== t || frame < 0 || frame >= counts.length) this.addBetween(t, own, n)
      else if (counts[frame] === 0) {
        counts[frame] = n
        marks[frame] = own
      } else {
        counts[frame]! += n
        marks[frame] = together(marks[frame]!, own)
      }
    }
  }

  private addBetween(time: number, mark: number, count: number): void {
    const found = this.between.get(time)
    this.between.set(time, found ? [found[0] + count, together(found[1], mark)] : [count, mark])
  }

  union(keyed: number): Union {
    const { counts, marks, between } = this
    let size = 0
    for (let frame = 0; frame < counts.length; frame++) if (counts[frame]) size++
    const time = new Float64Array(size)
    const count = new Uint16Array(size)
    const mark = new Uint8Array(size)
    let n = 0
    for (let frame = 0; frame < counts.length; frame++) {
      if (!counts[frame]) continue
      time[n] = frame
      count[n] = counts[frame]!
      mark[n++] = marks[frame]!
    }
    const whole = { time, count, marks: mark, keyed }
    return between.size ? withBetween(whole, between) : whole
  }
}

/** The few keys that lie between frames put in their places. */
function withBetween(
  { time, count, marks, keyed }: Union,
  between: ReadonlyMap<number, readonly [number, number]>,
): Union {
  const all = [...between].map(([t, [n, mark]]) => [t, n, mark] as const)
  time.forEach((t, k) => {
    all.push([t, count[k]!, marks[k]!])
  })
  all.sort((a, b) => a[0] - b[0])
  return {
    time: Float64Array.from(all, (one) => one[0]),
    count: Uint16Array.from(all, (one) => one[1]),
    marks: Uint8Array.from(all, (one) => one[2]),
    keyed,
  }
}

/** Marks of two keys at one time: what only counts where both have it, and what one has. */
const together = (a: number, b: number): number => (a & b & SHARED) | ((a | b) & ~SHARED)

/** The union of a row's channels: each time once, with the keys that stand there. */
export function unionOf(
  channels: readonly ChannelKey[],
  curve: (key: ChannelKey) => Curve | undefined,
  selected: ReadonlyMap<ChannelKey, ReadonlySet<number>>,
): Union {
  const found = channels.flatMap((key) => {
    const own = curve(key)
    return own?.kind === 'keyed' ? [[key, own] as const] : []
  })
  const [only] = found
  if (only && found.length === 1) return unionOfOne(only[1], selected.get(only[0]))
  const all = new Tally(found.reduce((last, [, { time }]) => Math.max(last, time.at(-1)!), 0))
  for (const [key, own] of found) {
    const { time, marks } = timesOf(own)
    const chosen = selected.get(key)
    all.add(time, marks, chosen && maskOf(own, chosen))
  }
  return all.union(found.length)
}

/** A single curve's: its own times. */
function unionOfOne(curve: KeyedCurve, chosen: ReadonlySet<number> | undefined): Union {
  const { time, marks } = timesOf(curve)
  const picked = chosen && maskOf(curve, chosen)
  const count = new Uint16Array(time.length).fill(1)
  const own = picked ? marks.map((mark, k) => (picked[k] ? mark | SELECTED : mark)) : marks
  return { time, count, marks: own, keyed: 1 }
}

/** The union of unions: a row whose rows below are known already. */
export function unionOfAll(unions: readonly Union[]): Union {
  const all = new Tally(unions.reduce((last, { time }) => Math.max(last, time.at(-1) ?? 0), 0))
  for (const { time, marks, count } of unions) all.add(time, marks, undefined, count)
  return all.union(unions.reduce((sum, { keyed }) => sum + keyed, 0))
}
