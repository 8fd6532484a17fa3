/** Where one was in each clip: step, joints, frame, range, sheet. Kept in the browser, so that a
 * reload, or the shelf and back, goes on where it was left. */
import { debounced } from '../api/awaited'
import { type ChannelKey, READOUTS, type Readout } from '../evaluation/curves'
import type { Clip } from '../evaluation/model'
import { hasChannel } from '../evaluation/owners'
import { type StepName, useBench } from './bench'
import { transport } from './transport'
import { useViewing } from './viewing'

const PLACES = 'lean.places'
const MOST = 100
const REST = 250 // ms

interface Place {
  step: StepName
  joints: number[]
  channels: ChannelKey[]
  readout: Readout | null
  frame: number
  range: [number, number] | null
  timing: boolean
}

function places(): Record<string, Place> {
  try {
    return JSON.parse(localStorage.getItem(PLACES) ?? '{}') as Record<string, Place>
  } catch {
    return {}
  }
}

let waiting: { clip: number; place: Place } | null = null
const writing = debounced(write, REST)

function write(): void {
  if (!waiting) return
  const { [waiting.clip]: _, ...others } = places()
  // The newest stands last; the oldest are forgotten.
  const newest = Object.entries(others).slice(-(MOST - 1))
  const all = Object.fromEntries([...newest, [String(waiting.clip), waiting.place]])
  localStorage.setItem(PLACES, JSON.stringify(all))
  waiting = null
}

function keep(): void {
  const { clip, step, joints, channels, readout } = useBench.getState()
  if (!clip) return
  if (waiting && waiting.clip !== clip.id) writing.now()
  const { frame, partial, range } = transport
  const { timing } = useViewing.getState()
  const place = { step, joints, channels, readout, frame, range: partial ? range : null, timing }
  waiting = { clip: clip.id, place }
  writing.soon()
}

/** Go on in a clip that has just been opened; whatever of the place is no more is left out. */
export function goOn(clip: Clip): void {
  const place = places()[clip.id]
  const has = (j: number) => clip.joints[j] !== undefined
  const joints = place?.joints.filter(has) ?? []
  const channels = (place?.channels ?? []).filter((key) => hasChannel(clip, key))
  if (place?.range) transport.setRange(...place.range)
  if (place) {
    transport.seek(place.frame)
    useViewing.setState({ timing: place.timing })
  }
  useBench.setState({
    clip,
    joints: joints.length || channels.length ? joints : [0],
    channels,
    readout: place?.readout && place.readout in READOUTS ? place.readout : null,
    step: place?.step ?? useBench.getState().step,
  })
}

useBench.subscribe((now, was) => {
  const parts = ['clip', 'step', 'joints', 'channels', 'readout'] as const
  if (parts.some((part) => now[part] !== was[part])) keep()
})
useViewing.subscribe((now, was) => {
  if (now.timing !== was.timing) keep()
})
transport.subscribe(() => {
  if (!transport.playing) keep()
})
addEventListener('pagehide', write)
