/** Keys edited without a pointer: walk along keys and channels, nudge, and be told where one is. */
import { useSyncExternalStore } from 'react'
import {
  commitEdits,
  commitSlide,
  editSelected,
  reachable,
  roomToMove,
  STILL,
  workedOn,
} from '../actions/edits'
import { type ChannelKey, HANDLES, type KeyedCurve, SEGMENTS, turns } from '../evaluation/curves'
import { counted } from '../ui/numbers'
import { notify, useBench } from '../view/bench'
import {
  addKeys,
  clearKeys,
  countKeys,
  keysWhere,
  selectKeys,
  useSelection,
} from '../view/selection'
import { transport } from '../view/transport'
import { useViewing } from '../view/viewing'
import { channelName, lengthUnit } from './names'

const curveOf = (key: ChannelKey | null): KeyedCurve | null => {
  const curve = key === null ? undefined : useBench.getState().curves.get(key)
  return curve?.kind === 'keyed' ? curve : null
}

/** The channel that is walked along: the current one, or the first that is shown. */
function current(): ChannelKey | null {
  const shown = workedOn()
  const { current: key } = useSelection.getState()
  return key && shown.includes(key) ? key : (shown[0] ?? null)
}

function pick(key: ChannelKey, k: number, add: boolean): void {
  const curve = curveOf(key)!
  const id = Number(curve.id[k])
  if (add) addKeys([[key, [id]]])
  else selectKeys(new Map([[key, new Set([id])]]))
  useSelection.setState({ current: key })
  if (useViewing.getState().follows) transport.seek(curve.time[k]!)
}

/** The key before or after the selected one, on the current channel. */
export function walkKeys(direction: -1 | 1, add = false): void {
  const key = current()
  const curve = curveOf(key)
  if (!key || !curve) return
  const ids = useSelection.getState().keys.get(key)
  const at = [...curve.id].map(Number)
  const chosen = ids ? at.flatMap((id, k) => (ids.has(id) ? [k] : [])) : []
  const from = chosen.length
    ? curve.time[direction > 0 ? chosen.at(-1)! : chosen[0]!]!
    : transport.frame - direction * 1e-6
  const k =
    direction > 0
      ? curve.time.findIndex((t) => t > from)
      : curve.time.findLastIndex((t) => t < from)
  if (k >= 0) pick(key, k, add)
}

/** The next channel that is shown; its key nearest to now. */
export function walkChannels(direction: -1 | 1): void {
  const shown = workedOn()
  const key = current()
  if (!key) return
  const next = shown[(shown.indexOf(key) + direction + shown.length) % shown.length]!
  useSelection.setState({ current: next })
  const curve = curveOf(next)
  if (!curve) {
    clearKeys()
    return
  }
  let best = 0
  curve.time.forEach((t, k) => {
    if (Math.abs(t - transport.frame) < Math.abs(curve.time[best]! - transport.frame)) best = k
  })
  pick(next, best, false)
}

/** Selected keys a little earlier or later, lower or higher. */
export function nudge(frames: number, steps: number): void {
  const { step, follows, passes, timing } = useViewing.getState()
  if (timing && frames) {
    const [low, high] = roomToMove()
    commitSlide({ ...STILL, by: Math.min(Math.max(frames, low), high) }, true)
    return
  }
  const by = step > 0 ? step : NUDGE
  const [low, high] = roomToMove(passes)
  const late = Math.min(Math.max(frames, low), high)
  const edits = editSelected((curve, k) => ({
    ...(late ? { time: curve.time[k]! + late, ...(passes ? { past: true } : {}) } : {}),
    ...(steps ? { value: curve.value[k]! + steps * by } : {}),
  }))
  void commitEdits(edits, new Map(), true)
  if (frames && !late)
    notify('The next key stands in the way: turn on “Move past neighbours” to go beyond it.')
  if (late && follows) transport.seek(transport.frame + late)
}

const NUDGE = 0.5 // degrees, or the clip's unit of length

export function selectAll(): void {
  selectKeys(keysWhere(useBench.getState().curves, reachable(), () => true))
}

export function invertKeys(): void {
  const { keys } = useSelection.getState()
  selectKeys(
    keysWhere(
      useBench.getState().curves,
      reachable(),
      (curve, k, key) => !keys.get(key)?.has(Number(curve.id[k])),
    ),
  )
}

/** All keys of the channels that have selected ones. */
export function alongChannels(): void {
  const { keys } = useSelection.getState()
  const key = current()
  const channels = keys.size ? [...keys.keys()] : key ? [key] : []
  selectKeys(keysWhere(useBench.getState().curves, channels, () => true))
}

/** All keys at now, or at the times of the selected ones. */
export function atTheseTimes(): void {
  const times = new Set<number>()
  editSelected((curve, k) => {
    times.add(curve.time[k]!)
    return null
  })
  if (!times.size) times.add(transport.frame)
  selectKeys(
    keysWhere(useBench.getState().curves, reachable(), (curve, k) => times.has(curve.time[k]!)),
  )
}

/** All keys in the range of the time strip. */
export function inTheRange(): void {
  const [first, last] = transport.range
  selectKeys(
    keysWhere(
      useBench.getState().curves,
      reachable(),
      (curve, k) => curve.time[k]! >= first && curve.time[k]! <= last,
    ),
  )
}

/** What is under the cursor, in words. */
function spoken(): string {
  const { clip } = useBench.getState()
  const { keys } = useSelection.getState()
  const key = current()
  const count = countKeys(keys)
  if (!clip || !key) return ''
  if (count > 1) return `${count} keys selected on ${keys.size} channels`
  const curve = curveOf(key)
  const name = channelName(key, clip)
  if (!curve) return `${name}, a value on every frame`
  const id = keys.get(key)?.values().next().value
  const k = [...curve.id].findIndex((own) => Number(own) === id)
  if (k < 0) return `${name}, ${counted(curve.time.length, 'key')}`
  const unit = turns(key) ? 'degrees' : lengthUnit(clip.reading.metres_per_unit)
  const value = Number(curve.value[k]!.toFixed(3))
  const frame = Number(curve.time[k]!.toFixed(3))
  return (
    `${name}, key ${k + 1} of ${curve.time.length}, frame ${frame}, ${value} ${unit}, ` +
    `${HANDLES[curve.handle[k]!]}, then ${SEGMENTS[curve.segment[k]!]}`
  )
}

const listen = (tell: () => void) => {
  const stops = [
    useSelection.subscribe(tell),
    useBench.subscribe((now, old) => {
      if (now.curves !== old.curves || now.joints !== old.joints) tell()
    }),
  ]
  return () => {
    for (const stop of stops) stop()
  }
}

export const useSpoken = (): string => useSyncExternalStore(listen, spoken)
