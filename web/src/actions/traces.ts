/** Curves and figures fetched to be looked at beside the clip: before traces and guides. */
import { addressOf, clipOfTake, numbers, type Schemas, textOf } from '../api/client'
import {
  type ChannelKey,
  type Curve,
  channelKey,
  curvesOf,
  splitKey,
  valueAt,
} from '../evaluation/curves'
import { jointsOf, ofFigure } from '../evaluation/owners'
import { posesOf } from '../evaluation/poses'
import { jump } from '../sync/write'
import { notify, useBench } from '../view/bench'
import { shownChannels } from '../view/shown'
import { transport } from '../view/transport'
import { type Guide, type TraceChoice, useViewing } from '../view/viewing'

const { getState: view, setState: set } = useViewing

const shownJoints = () => jointsOf(shownChannels(useBench.getState()))
const othersShown = () => shownChannels(useBench.getState()).some((key) => !ofFigure(key))

async function curvesOfRevision(revision: number, take: boolean): Promise<Map<ChannelKey, Curve>> {
  const { clip } = useBench.getState()
  const joints = shownJoints().join(',')
  const others = othersShown() && !take ? 'true' : undefined
  const asked = { revision, joints, others, take: take ? 'true' : undefined }
  return curvesOf(await numbers(addressOf(clip!, 'curves', asked)))
}

/** Choose what is drawn behind, and fetch what of it is shown. */
export async function setTrace(trace: TraceChoice): Promise<void> {
  set({ trace, traced: new Map() })
  await loadTrace()
}

/** The trace of what is shown now. */
export async function loadTrace(): Promise<void> {
  const { clip } = useBench.getState()
  const { trace } = view()
  if (!clip || trace === 'none' || !(shownJoints().length || othersShown())) return
  try {
    const traced = await curvesOfRevision(trace === 'take' ? clip.head.id : trace, trace === 'take')
    if (view().trace === trace) set({ traced })
  } catch (trouble) {
    notify(trouble instanceof Error ? trouble.message : String(trouble))
  }
}

/** The take's curves of what is shown: the restoring brush shows what it will bring back. */
export async function loadTake(): Promise<void> {
  const { clip } = useBench.getState()
  if (!clip || !shownJoints().length) return
  const take = await curvesOfRevision(clip.head.id, true)
  set({ take })
}

/** Keep a copy of the clip as it is, drawn behind from now on. */
export function keepCopy(): void {
  const { clip } = useBench.getState()
  if (!clip) return
  void setTrace(clip.head.id)
  notify(`Kept: revision ${clip.head.number} is drawn behind.`)
}

/** The clip as traced becomes the clip, and what it was the trace: back and forth. */
export async function swapTrace(): Promise<void> {
  const { clip } = useBench.getState()
  const { trace } = view()
  if (!clip || typeof trace !== 'number') {
    notify('Keep a copy first, or trace a revision: then the two can be swapped.')
    return
  }
  const now = clip.head.id
  if (await jump(trace)) await setTrace(now)
}

/** The clip of any take of the workspace as a guide: its curve over these, its figure beside. */
export async function setGuideOf(take: number): Promise<void> {
  let other: Schemas['ClipOut']
  try {
    other = await clipOfTake(take)
  } catch (trouble) {
    notify(textOf(trouble))
    return
  }
  const first = shownChannels(useBench.getState()).find(ofFigure)
  const { joint, channel } = first ? splitKey(first) : { joint: 0, channel: 'ry' }
  const name = useBench.getState().clip?.joints[joint]?.name
  const alike = Math.max(
    other.joints.findIndex((j) => j.name === name),
    0,
  )
  const own = other.joints[alike]!.channels
  const guide: Guide = {
    take,
    clip: other.id,
    revision: other.head.id,
    name: other.name,
    frames: other.frames,
    doc: other,
    joint: alike,
    channel: own.includes(channel) ? channel : (own[0] ?? 'ry'),
    offset: 0,
    raised: 0,
    beside: 1,
  }
  set({ guide, guideCurve: null, guidePoses: null })
  await loadGuideCurve()
  const got = await numbers(addressOf(other, 'poses', { revision: other.head.id }))
  if (view().guide?.clip === other.id) set({ guidePoses: posesOf(got, other.joints.length) })
}

export async function changeGuide(change: Partial<Guide>): Promise<void> {
  const { guide } = view()
  if (!guide) return
  set({ guide: { ...guide, ...change } })
  if ('joint' in change || 'channel' in change) await loadGuideCurve()
}

async function loadGuideCurve(): Promise<void> {
  const { guide } = view()
  if (!guide) return
  const got = curvesOf(
    await numbers(
      addressOf(guide.doc, 'curves', { revision: guide.revision, joints: guide.joint }),
    ),
  )
  set({ guideCurve: got.get(channelKey(guide.joint, guide.channel)) ?? null })
}

export const dropGuide = (): void => set({ guide: null, guideCurve: null, guidePoses: null })

/** Raise the guide so that it meets the first shown curve now. */
export function meetNow(): void {
  const { guide, guideCurve } = view()
  const first = shownChannels(useBench.getState())[0]
  const own = first && useBench.getState().curves.get(first)
  if (!guide || !guideCurve || !own) return
  const now = transport.frame
  const raised = valueAt(own, now) - valueAt(guideCurve, now - guide.offset)
  set({ guide: { ...guide, raised } })
}

/** The guide as it is drawn: later and higher by what was chosen. */
export function guideShown(guide: Guide | null, curve: Curve | null, frames: number): Curve[] {
  if (!guide || !curve) return []
  const values = Float64Array.from({ length: frames }, (_, f) => {
    const at = f - guide.offset
    return at < 0 || at > guide.frames - 1 ? Number.NaN : valueAt(curve, at) + guide.raised
  })
  return [{ kind: 'sampled', values }]
}
