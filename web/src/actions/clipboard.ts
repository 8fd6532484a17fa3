/** Keys copied and pasted: at now, on the same channels, on others alike, or on all that are shown. */

import { type ChannelKey, HANDLES, type KeyedCurve, SEGMENTS, splitKey } from '../evaluation/curves'
import { type Edits, freshId, type KeyEdit } from '../evaluation/keys'
import { counted, grouped } from '../ui/numbers'
import { notify, useBench } from '../view/bench'
import { selectKeys, useSelection } from '../view/selection'
import { transport } from '../view/transport'
import { useViewing } from '../view/viewing'
import { commitEdits, editSelected, shapeOf, workedOn } from './edits'

const curves = () => useBench.getState().curves

/** A key's handles as they are to be elsewhere: a kind that sets itself, or the very shape. */
function handleOf(curve: KeyedCurve, k: number): Partial<KeyEdit> {
  const handle = HANDLES[curve.handle[k]!]!
  return handle === 'free' ? { handle, ...shapeOf(curve, k) } : { handle }
}

function segmentOf(curve: KeyedCurve, k: number): Partial<KeyEdit> {
  const segment = SEGMENTS[curve.segment[k]!]!
  const swings = segment === 'spring' || segment === 'bounce'
  return { segment, ...(swings ? { swings: curve.swings[k]!, decay: curve.decay[k]! } : {}) }
}

/** Copied keys, times counted from the first of them. */
interface Copied {
  channel: ChannelKey
  keys: (Omit<KeyEdit, 'id' | 'frame' | 'time'> & { at: number })[]
}
let clipboard: Copied[] = []

export function copySelected(): number {
  const { keys } = useSelection.getState()
  let first = Number.POSITIVE_INFINITY
  const out: Copied[] = []
  editSelected((curve, k) => {
    first = Math.min(first, curve.time[k]!)
    return null
  })
  for (const [channel, ids] of keys) {
    const curve = curves().get(channel)
    if (curve?.kind !== 'keyed') continue
    const list: Copied['keys'] = []
    for (let k = 0; k < curve.time.length; k++)
      if (ids.has(Number(curve.id[k])))
        list.push({
          at: curve.time[k]! - first,
          value: curve.value[k]!,
          ...handleOf(curve, k),
          ...segmentOf(curve, k),
        })
    if (list.length) out.push({ channel, keys: list })
  }
  if (out.length) clipboard = out
  const count = out.reduce((sum, c) => sum + c.keys.length, 0)
  if (count) notify(`${count} ${count === 1 ? 'key' : 'keys'} copied.`)
  return count
}

/** Where copied channels go: one onto all that are shown, several onto those alike in turn. */
function targets(): [Copied, ChannelKey][] {
  // On the timing sheet each goes back to its own channel.
  if (useViewing.getState().timing) return clipboard.map((from) => [from, from.channel])
  const shown = workedOn()
  if (clipboard.length === 1) return shown.map((key) => [clipboard[0]!, key])
  return shown.flatMap((key): [Copied, ChannelKey][] => {
    const { channel } = splitKey(key)
    const same = clipboard.find((c) => c.channel === key)
    const alike = same ?? clipboard.find((c) => splitKey(c.channel).channel === channel)
    return alike ? [[alike, key]] : []
  })
}

/** Paste at now, on the shown channels; keys that stand at the same times are replaced. */
export function paste(): void {
  const edits: Edits = new Map()
  const made = new Map<ChannelKey, Set<number>>()
  const last = transport.frames - 1
  let beyond = 0
  let pasted = 0
  for (const [from, key] of targets()) {
    const curve = curves().get(key)
    if (curve?.kind !== 'keyed') continue
    let id = freshId(curve)
    const list: KeyEdit[] = []
    const ids = new Set<number>()
    for (const { at, ...columns } of from.keys) {
      const frame = transport.frame + at
      if (frame > last) {
        beyond++
        continue
      }
      pasted++
      const there = curve.time.indexOf(frame)
      const own = there >= 0 ? Number(curve.id[there]) : id++
      const seen = there >= 0 ? { was: curve.value[there]! } : {}
      list.push({ id: own, frame, ...seen, do: there >= 0 ? 'set' : 'make', ...columns })
      ids.add(own)
    }
    if (list.length) edits.set(key, list)
    made.set(key, ids)
  }
  if (!edits.size && beyond) {
    notify(`Nothing was pasted: all ${counted(beyond, 'key')} would lie beyond the end.`)
    return
  }
  if (!edits.size) {
    notify('Nothing to paste here: copy keys first, and show channels that have keys.')
    return
  }
  void commitEdits(edits)
  selectKeys(made)
  if (beyond)
    notify(`${counted(pasted, 'key')} pasted; ${grouped(beyond)} would lie beyond the end.`)
}
