/** The bench's state: the clip, its poses and curves, what is selected, what is previewed.
 *
 * The server is the authority; this holds what it said last. Time lives in the transport.
 */
import { create } from 'zustand'
import { ApiError, answer, client, numbers, type Schemas } from '../api/client'
import type { Message } from '../api/safetensors'
import { loadCatalogue } from './catalogue'
import {
  type ChannelKey,
  type Curve,
  channelKey,
  curvesOf,
  READOUTS,
  type Readout,
  splitKey,
} from './curves'
import { draft } from './draft'
import { type Poses, posesOf, withChanged } from './poses'
import { clearKeys, useSelection } from './selection'
import { transport } from './transport'
import { lookAnew, useViewing } from './viewing'

export type Clip = Schemas['ClipOut']
export type StepName =
  | 'bring-in'
  | 'inspect'
  | 'unflip'
  | 'calm'
  | 'thin'
  | 'shape'
  | 'deliver'
  | 'recipe'
export type Finding = Schemas['FindingOut']
export type Contact = Schemas['ContactOut']
export type Mark = Schemas['MarkOut']
export type Scope = Schemas['ScopeIO']

/** What an operation would make: shown, never saved. */
export interface Preview {
  operation: string
  params: Record<string, unknown>
  scope: Scope
  /** The recipe's line that this would change; else it would be appended. */
  line: string | null
  curves: Map<ChannelKey, Curve>
  /** Absent while the whole clip's numbers are pending. */
  whole?: {
    report: Record<string, number>
    /** None where time is changed: the take goes along. */
    drift: Schemas['DriftOut'] | null
    keys: number
    /** Open findings by kind that would be left; null where the operation mends none. */
    findings: Record<string, number> | null
    poses: Poses
  }
}

export interface BenchState {
  clip: Clip | null
  trouble: string | null
  poses: Poses | null
  /** The revision that `poses` are of. */
  posed: number | null
  curves: Map<ChannelKey, Curve>
  /** Channels with a value on every frame, where all keys of the clip are here; else null. */
  dense: ReadonlySet<ChannelKey> | null
  joints: number[]
  /** Channels shown; empty means all channels of the joints. */
  channels: ChannelKey[]
  /** What is read out of the world beside the channels. */
  readout: Readout | null
  step: StepName
  preview: Preview | null
  previewTrouble: string | null
  /** A preview has been asked for and is not complete. */
  previewing: boolean
  saving: boolean
  ghost: boolean
  drift: Schemas['DriftOut'] | null
  /** Per frame how far any end is from the take, millimetres. */
  driftFrames: Float32Array | null
  findings: Finding[] | null
  contacts: Schemas['ContactsOut'] | null
  /** The contact span that is selected on the strip and in its list. */
  contact: Contact | null
  body: Schemas['BodyOut'] | null
  notice: string | null
}

export const useBench = create<BenchState>(() => ({
  clip: null,
  trouble: null,
  poses: null,
  posed: null,
  curves: new Map(),
  dense: null,
  joints: [],
  channels: [],
  readout: null,
  step: 'inspect',
  preview: null,
  previewTrouble: null,
  previewing: false,
  saving: false,
  ghost: true,
  drift: null,
  driftFrames: null,
  findings: null,
  contacts: null,
  contact: null,
  body: null,
  notice: null,
}))

const { getState: get, setState: set } = useBench

/** The channels that the sheet shows. */
export function shownChannels(state: Pick<BenchState, 'clip' | 'joints' | 'channels' | 'readout'>) {
  if (!state.clip) return []
  const { pinned, hidden } = useViewing.getState()
  const own = state.channels.length
    ? state.channels
    : state.joints.flatMap((j) => state.clip!.joints[j]!.channels.map((c) => channelKey(j, c)))
  const all = [...new Set([...pinned, ...own])]
  // What is picked by name is shown, hidden or not.
  const shown = state.channels.length ? all : all.filter((key) => !hidden.has(key))
  return [...shown, ...readoutChannels(state)]
}

function readoutChannels({ joints, readout }: Pick<BenchState, 'joints' | 'readout'>) {
  if (!readout) return []
  return joints.slice(0, MOST_READ).flatMap((j) => READOUTS[readout].map((c) => channelKey(j, c)))
}

/** Read-outs are of a few joints: more cannot be told apart. */
const MOST_READ = 6

function message(trouble: unknown): string {
  return trouble instanceof Error ? trouble.message : String(trouble)
}

/** Open a clip: document, poses, the root's curves; views are fitted by those who draw. */
export async function openClip(id: number): Promise<void> {
  wanted = null
  lookAnew()
  clearKeys()
  draft.drop()
  draft.arrived()
  set({ ...useBench.getInitialState(), step: get().step })
  try {
    const clip = await answer(
      client.GET('/api/clips/{clip_id}', { params: { path: { clip_id: id } } }),
    )
    transport.frame = 0
    transport.fit(clip.frames, clip.rate[0]! / clip.rate[1]!)
    set({ clip, joints: [0] })
    await Promise.all([loadPoses(), loadCurves(), loadNumbers(), loadBody(), loadCatalogue()])
  } catch (trouble) {
    set({ trouble: message(trouble) })
  }
}

/** The poses of the head: all of them, or what differs from the poses that are here. */
async function loadPoses(): Promise<void> {
  const { clip, poses, posed } = get()
  if (!clip) return
  const base = `/api/clips/${clip.id}/poses?revision=${clip.head.id}`
  const partial = posed !== null && poses !== null
  const got = await numbers(partial ? `${base}&since=${posed}` : base)
  if (get().clip?.head.id !== clip.head.id || get().posed !== posed) return
  const carried = got.arrays.get('joints')!.data.length
  const next =
    partial && carried < clip.joints.length
      ? withChanged(poses, got)
      : posesOf(got, clip.joints.length)
  set({ poses: next, posed: clip.head.id })
  draft.arrived()
}

/** The revision that the curves which are here are of: after a change, the one before. */
let curvesOfHead = -1

/** Fetch the curves of selected and pinned joints that are not here yet, or all of them where
 * the head has moved: until they are here, what was shown stays. */
async function loadCurves(more: readonly number[] = []): Promise<void> {
  const { clip } = get()
  if (!clip) return
  const { pinned, muted, timing } = useViewing.getState()
  if (timing) await loadKeys()
  const { joints, curves } = get()
  if (get().clip?.head.id !== clip.head.id) return
  const stale = curvesOfHead !== clip.head.id
  const held = [...pinned, ...muted].map((key) => splitKey(key).joint)
  const missing = [...new Set([...joints, ...held, ...more])].filter(
    (j) => stale || clip.joints[j]!.channels.some((c) => !curves.has(channelKey(j, c))),
  )
  if (!missing.length) return
  const got = await numbers(
    `/api/clips/${clip.id}/curves?revision=${clip.head.id}&joints=${missing.join(',')}`,
  )
  if (get().clip?.head.id !== clip.head.id) return
  const old = curvesOfHead === clip.head.id ? get().curves : new Map<ChannelKey, Curve>()
  const dense = curvesOfHead === clip.head.id ? get().dense : null
  curvesOfHead = clip.head.id
  set({ curves: new Map([...old, ...curvesOf(got)]), dense })
  dropGoneKeys()
}

/** The curves of joints that are not selected, for what changes them as well. */
export const bringCurves = (joints: readonly number[]): Promise<void> => loadCurves(joints)

/** All keyed curves of the clip: for the timing sheet. What has not changed is not asked for. */
export async function loadKeys(): Promise<void> {
  const { clip, dense: had } = get()
  if (!clip || (had && curvesOfHead === clip.head.id)) return
  const since = had && curvesOfHead >= 0 ? `&since=${curvesOfHead}` : ''
  const got = await numbers(`/api/clips/${clip.id}/keys?revision=${clip.head.id}${since}`)
  if (get().clip?.head.id !== clip.head.id) return
  const fresh = curvesOf(got)
  const dense = new Set(had ?? [])
  const curves = new Map(since || curvesOfHead === clip.head.id ? get().curves : [])
  for (const key of fresh.keys()) dense.delete(key)
  for (const key of got.about.dense as ChannelKey[]) {
    dense.add(key)
    if (curvesOfHead !== clip.head.id) curves.delete(key)
  }
  curvesOfHead = clip.head.id
  set({ curves: new Map([...curves, ...fresh]), dense })
  dropGoneKeys()
}

/** Keys that are no more are no longer selected. */
function dropGoneKeys(): void {
  const { keys } = useSelection.getState()
  if (!keys.size) return
  const { curves } = get()
  const left = new Map<ChannelKey, Set<number>>()
  for (const [key, ids] of keys) {
    const curve = curves.get(key)
    if (curve?.kind !== 'keyed') continue
    const own = new Set([...curve.id].map(Number).filter((id) => ids.has(id)))
    if (own.size) left.set(key, own)
  }
  useSelection.setState({ keys: left })
}

/** Fetch the read-outs of selected joints that are not here yet. */
async function loadReadouts(): Promise<void> {
  const { clip, curves } = get()
  const missing = new Set(
    readoutChannels(get())
      .filter((k) => !curves.has(k))
      .map((k) => splitKey(k).joint),
  )
  if (!clip || !missing.size) return
  const got = await numbers(
    `/api/clips/${clip.id}/tracks?revision=${clip.head.id}&joints=${[...missing].join(',')}`,
  )
  if (get().clip?.head.id !== clip.head.id) return
  set({ curves: new Map([...get().curves, ...curvesOf(got)]) })
}

export function setReadout(readout: Readout | null): void {
  set({ readout })
  loadReadouts().catch((trouble: unknown) => notify(message(trouble)))
}

async function loadNumbers(): Promise<void> {
  const { clip } = get()
  if (!clip) return
  const params = { path: { clip_id: clip.id }, query: { revision: clip.head.id } }
  const { GET } = client
  const frames = `/api/clips/${clip.id}/drift/frames?revision=${clip.head.id}`
  const [drift, lane, found, contacts] = await Promise.all([
    answer(GET('/api/clips/{clip_id}/drift', { params })),
    numbers(frames),
    answer(GET('/api/clips/{clip_id}/findings', { params })),
    answer(GET('/api/clips/{clip_id}/contacts', { params })),
  ])
  if (get().clip?.head.id === clip.head.id)
    set({
      drift,
      driftFrames: lane.arrays.get('mm')!.data as Float32Array,
      findings: found.findings,
      contacts,
    })
}

/** What the joints are: asked anew when the clip or how it is read changes. */
export async function loadBody(): Promise<void> {
  const { clip } = get()
  if (!clip) return
  const params = { path: { clip_id: clip.id }, query: { revision: clip.head.id } }
  const body = await answer(client.GET('/api/clips/{clip_id}/body', { params }))
  if (get().clip?.id === clip.id) set({ body })
}

/** Show a notice for a moment; errors say what to do, notices that something was done. */
export function notify(text: string): void {
  set({ notice: text })
  setTimeout(() => {
    if (get().notice === text) set({ notice: null })
  }, 6000)
}

export function selectJoints(joints: number[], channels: ChannelKey[] = []): void {
  set({ joints, channels })
  const shown = new Set(shownChannels(get()))
  const { keys } = useSelection.getState()
  const left = new Map([...keys].filter(([key]) => shown.has(key)))
  // The timing sheet shows the keys of all joints.
  if (left.size < keys.size && !useViewing.getState().timing) useSelection.setState({ keys: left })
  Promise.all([loadCurves(), loadReadouts()]).catch((trouble: unknown) => notify(message(trouble)))
  // What is being asked for counts, not only what has come back.
  const { preview, previewing } = get()
  if (wanted)
    void startPreview(wanted.operation, wanted.params, {
      ...wanted,
      jointsOnly: !previewing && preview?.whole !== undefined,
    })
}

export function selectChannels(channels: ChannelKey[]): void {
  const joints = [...new Set(channels.map((c) => splitKey(c).joint))]
  selectJoints(joints, channels)
}

const PAUSE = 120 // ms

/** Everything the server said of a new head takes the place of what stood. */
async function headMoved(clip: Clip): Promise<void> {
  const before = get().clip
  const rate = clip.rate[0]! / clip.rate[1]!
  if (before && (before.frames !== clip.frames || transport.rate !== rate)) {
    const [first, last] = transport.range
    const whole = first === 0 && last === transport.frames - 1
    transport.fit(clip.frames, rate)
    if (!whole) transport.setRange(first, last)
    // Poses of another length cannot be patched: they are fetched whole.
    set({ poses: null, posed: null })
  }
  wanted = null
  const reread = JSON.stringify(before?.reading) !== JSON.stringify(clip.reading)
  set({
    clip,
    preview: null,
    previewTrouble: null,
    previewing: false,
  })
  try {
    // The curves and poses that were seen stay until the new ones are here.
    await Promise.all([loadPoses(), loadCurves()])
    const rest = reread ? [loadBody()] : []
    await Promise.all([loadReadouts(), ...rest])
    // Findings and drift of the whole clip wait for a pause in the work.
    await new Promise((done) => setTimeout(done, PAUSE))
    if (get().clip?.head.id === clip.head.id) await loadNumbers()
  } catch (trouble) {
    notify(message(trouble))
  }
}

let line: Promise<unknown> = Promise.resolve()

/** Changes stand in line: each is made on the head that the one before it left. */
function change(call: (clip: Clip) => Promise<Clip> | null): Promise<boolean> {
  const turn = line
    .then(() => changeNow(call))
    .catch((trouble: unknown) => {
      // One that fails must not hold up those behind it.
      notify(message(trouble))
      return false
    })
  line = turn
  return turn
}

async function changeNow(call: (clip: Clip) => Promise<Clip> | null): Promise<boolean> {
  const { clip } = get()
  const asked = clip && call(clip)
  if (!clip || !asked) return false
  set({ saving: true })
  try {
    const changed = await asked
    cancelPreview()
    set({ saving: false })
    void headMoved(changed)
    return true
  } catch (trouble) {
    if (trouble instanceof ApiError && trouble.status === 409) {
      notify('The clip was changed elsewhere. The newest state is shown; nothing of it was lost.')
      const fresh = await answer(
        client.GET('/api/clips/{clip_id}', { params: { path: { clip_id: clip.id } } }),
      )
      void headMoved(fresh)
    } else {
      notify(message(trouble))
      // What was shown before it was kept is not kept: the server's curves come back.
      curvesOfHead = -1
      draft.arrived()
      void loadCurves().catch(() => {})
    }
    return false
  } finally {
    set({ saving: false })
  }
}

type Write = Omit<Schemas['WriteIn'], 'revision' | 'request_id'>

/** Change the recipe. Sent again after a lost answer, it is applied once. */
export function write(what: Write): Promise<boolean> {
  const request_id = crypto.randomUUID()
  return change(async (clip) => {
    const send = () =>
      answer(
        client.POST('/api/clips/{clip_id}/writes', {
          params: { path: { clip_id: clip.id } },
          body: { revision: clip.head.id, request_id, ...what },
        }),
      )
    try {
      return await send()
    } catch (trouble) {
      if (trouble instanceof ApiError && trouble.status === 0) return await send()
      throw trouble
    }
  })
}

export const apply = (
  operation: string,
  params: Record<string, unknown>,
  scope: Scope = {},
): Promise<boolean> => write({ append: { operation, params, scope } })

const step = (clip: Clip) => ({
  params: { path: { clip_id: clip.id } },
  body: { revision: clip.head.id },
})

export const undo = (): Promise<boolean> =>
  change((clip) =>
    clip.can_undo ? answer(client.POST('/api/clips/{clip_id}/undo', step(clip))) : null,
  )

export const redo = (): Promise<boolean> =>
  change((clip) =>
    clip.can_redo ? answer(client.POST('/api/clips/{clip_id}/redo', step(clip))) : null,
  )

/** Make any revision the head: the history is a list to be jumped in. */
export const jump = (to: number): Promise<boolean> =>
  change((clip) =>
    clip.head.id === to
      ? null
      : answer(
          client.POST('/api/clips/{clip_id}/jump', {
            params: { path: { clip_id: clip.id } },
            body: { revision: clip.head.id, to },
          }),
        ),
  )

let asked = new AbortController()
/** This page's own name, and how many previews it has asked for. */
const view = crypto.randomUUID()
let sequence = 0

/** The preview that was asked for last, until it is discarded or applied. */
let wanted: {
  operation: string
  params: Record<string, unknown>
  line: string | null
  scope: Scope
} | null = null

interface PreviewOptions {
  line?: string | null
  scope?: Scope
  /** Only the selected joints' curves: the whole clip's numbers stand. */
  jointsOnly?: boolean
  /** Only the selected joints, while something is dragged: numbers wait until it is let go. */
  near?: boolean
}

/** Preview an operation: the selected joints at once, the whole clip's numbers after. */
export async function startPreview(
  operation: string,
  params: Record<string, unknown>,
  { line = null, scope = {}, jointsOnly = false, near: only = false }: PreviewOptions = {},
): Promise<void> {
  const { clip, joints, preview } = get()
  if (!clip) return
  wanted = { operation, params, line, scope }
  asked.abort()
  asked = new AbortController()
  const { signal } = asked
  const body = {
    revision: clip.head.id,
    operation,
    params,
    scope,
    line,
    view,
    sequence: ++sequence,
    joints: joints.map((j) => clip.joints[j]!.name),
  }
  const whole = jointsOnly ? preview?.whole : undefined
  set({ previewing: true })
  try {
    const near = await numbers(`/api/clips/${clip.id}/preview`, body, signal)
    const curves = curvesOf(near)
    set({
      preview: { operation, params, scope, line, curves, ...(whole ? { whole } : {}) },
      previewTrouble: null,
    })
    if (whole || only) {
      set({ previewing: false })
      return
    }
    const all = await numbers(
      `/api/clips/${clip.id}/preview/whole`,
      { ...body, joints: [] },
      signal,
    )
    // Curves of the whole clip's own result, which a few joints alone only come near to.
    const exact = await numbers(`/api/clips/${clip.id}/preview`, body, signal)
    const { poses, preview: now } = get()
    if (signal.aborted || !now || !poses) return
    set({
      previewing: false,
      preview: {
        ...now,
        curves: curvesOf(exact),
        whole: {
          report: all.about.report as Record<string, number>,
          drift: all.about.drift as Schemas['DriftOut'] | null,
          keys: all.about.keys as number,
          findings: all.about.findings as Record<string, number> | null,
          poses: previewed(poses, all, clip.joints.length),
        },
      },
    })
  } catch (trouble) {
    if (trouble instanceof DOMException) return
    if (trouble instanceof ApiError && trouble.status === 410) return
    wanted = null
    set({ previewTrouble: message(trouble), previewing: false, preview: null })
  }
}

/** The poses a preview gives: all of them where it changes the clip's length. */
function previewed(poses: Poses, got: Message, joints: number): Poses {
  const carried = got.arrays.get('joints')!.data.length
  if (carried === joints) return posesOf(got, joints)
  const fits = (got.about.frames as number) === poses.frames
  return carried && fits ? withChanged(poses, got) : poses
}

export function cancelPreview(): void {
  wanted = null
  asked.abort()
  if (get().preview || get().previewTrouble || get().previewing)
    set({ preview: null, previewTrouble: null, previewing: false })
}

export function setStep(step: StepName): void {
  if (get().step === step) return
  cancelPreview()
  set({ step })
}
