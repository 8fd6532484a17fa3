/** What the server confirmed of the open clip: curves and poses by head, fetched until they are
 * those of the newest one. What is shown is what is pending folded over it. */
import { awaiting } from '../api/awaited'
import { ApiError, addressOf, answer, client, numbers, textOf } from '../api/client'
import type { Message } from '../api/safetensors'
import {
  type ChannelKey,
  type Curve,
  channelKey,
  curvesOf,
  readoutUnit,
  splitKey,
} from '../evaluation/curves'
import type { Clip } from '../evaluation/model'
import { hasChannel, jointsOf, ofFigure, otherChannels } from '../evaluation/owners'
import { posesOf, withChanged } from '../evaluation/poses'
import { notify, useBench } from '../view/bench'
import { draft } from '../view/draft'
import { soloNamed, useLayers } from '../view/layerChoice'
import { useSelection } from '../view/selection'
import { readoutChannels } from '../view/shown'
import { useViewing } from '../view/viewing'
import { bringPlan } from './plan'
import type { Writes } from './writes'

const { getState: get, setState: set } = useBench

export type Curves = ReadonlyMap<ChannelKey, Curve>

/** The curves that are here: of which head, and whether all keys of the clip are among them. */
interface Known {
  order: number
  revision: number
  curves: Curves
  dense: ReadonlySet<ChannelKey> | null
}

let open: Writes<Curves, Clip> | null = null
let known: Known | null = null
let posed = { order: -1, revision: -1, solo: '' }
/** Joints whose curves are wanted though they are not selected. */
let more = new Set<number>()

/** From now on another clip's changes are shown, or none's. */
export function follow(writes: Writes<Curves, Clip> | null): void {
  open = writes
  known = null
  posed = { order: -1, revision: -1, solo: '' }
  more = new Set()
  curvesLoop = posesLoop = null
  draft.settle(new Map(), [])
}

/** Poses of another length cannot be patched: they are fetched whole. */
export function forgetPoses(): void {
  posed = { order: -1, revision: -1, solo: '' }
  set({ poses: null })
}

/** Show the confirmed curves with what is pending folded over them. */
export function showCurves(): void {
  if (!open) return
  const shown = open.shown
  if (shown !== get().curves) set({ curves: shown })
  const touched = new Map<ChannelKey, Curve>()
  const unposed = open.unseen('poses')
  for (const entry of unposed)
    for (const key of entry.touches) {
      const curve = shown.get(key)
      if (curve) touched.set(key, curve)
    }
  draft.settle(
    touched,
    unposed.flatMap(({ corrects }) => corrects ?? []),
  )
}

/** The last change in line has been answered: what it waited for is fetched. */
export function catchUp(): void {
  if (!open || open.count) return
  const trouble = (problem: unknown) => notify(textOf(problem))
  bringCurves().catch(trouble)
  bringPoses().catch(trouble)
}

let curvesLoop: Promise<void> | null = null
let posesLoop: Promise<void> | null = null

/** Fetch what is not here yet of the curves that are wanted, until they are the head's. */
export function bringCurves(joints: Iterable<number> = []): Promise<void> {
  for (const j of joints) more.add(j)
  curvesLoop ??= patiently(nextCurves, () => {
    curvesLoop = null
  })
  return curvesLoop
}

function bringPoses(): Promise<void> {
  posesLoop ??= patiently(nextPoses, () => {
    posesLoop = null
  })
  return posesLoop
}

const RETRY = 1500 // ms

/** Take steps while there are some; the server being away makes them wait, not fail. */
async function patiently(step: () => Promise<void> | null, ended: () => void): Promise<void> {
  const writes = open
  const mine = () => writes === open
  // Whoever starts it notes it down before it can have ended.
  await Promise.resolve()
  try {
    for (;;) {
      const next = mine() ? step() : null
      if (!next) break
      try {
        await next
      } catch (trouble) {
        if (!(trouble instanceof ApiError && trouble.status === 0)) throw trouble
        await new Promise((done) => setTimeout(done, RETRY))
      }
    }
  } finally {
    if (mine()) ended()
  }
}

function nextCurves(): Promise<void> | null {
  const { clip, joints, channels, prop, step } = get()
  if (!open || !clip) return null
  const { pinned, muted, timing } = useViewing.getState()
  const stale = !known || known.order !== open.order
  if (timing && (stale || !known!.dense))
    return known?.dense && open.count ? null : fetchKeys(open, known, clip)
  const named = [...channels, ...pinned, ...muted]
  // Layers are worked on in Shape: what they weigh and turn now is told there.
  const { chosen } = useLayers.getState()
  const layered = clip.layers.length > 0 && (step === 'shape' || chosen !== null)
  const asked = named.some((key) => !ofFigure(key) && hasChannel(clip, key))
  const others = prop !== null || layered || asked
  const wanted = [...joints, ...more, ...jointsOf(named)]
  const has = (j: number) => (c: string) => known?.curves.has(channelKey(j, c)) ?? false
  const missing = [...new Set(wanted)].filter(
    (j) => clip.joints[j] && (stale || !clip.joints[j].channels.every(has(j))),
  )
  const othersHere = !others || otherChannels(clip).every((key) => known?.curves.has(key) ?? false)
  // While changes are in line what is shown is right already: the last one's answer is fetched.
  const here = othersHere && wanted.every((j) => clip.joints[j]?.channels.every(has(j)) ?? true)
  const othersToo = others && (stale || !othersHere)
  if (missing.length || othersToo)
    return here && open.count ? null : fetchCurves(open, clip, missing, othersToo)
  if (stale) return null
  const read = readoutChannels(get()).filter((key) => !known!.curves.has(key))
  return read.length ? fetchReadouts(open, clip, read) : null
}

/** The curves that came take the place of those that were there, if nothing newer has. */
function confirm(writes: Writes<Curves, Clip>, got: Known): void {
  if (writes !== open || (known && known.order > got.order)) return
  known = got
  set({ dense: got.dense })
  writes.confirm(got.curves, got.order, got.revision)
  dropGoneKeys()
}

async function fetchCurves(
  writes: Writes<Curves, Clip>,
  clip: Clip,
  joints: number[],
  others: boolean,
) {
  const { order, head } = writes
  const asked = {
    revision: head.head.id,
    joints: joints.join(','),
    others: others ? 'true' : undefined,
  }
  const fresh = curvesOf(await numbers(addressOf(clip, 'curves', asked)))
  const same = known?.order === order ? known : null
  const curves = new Map([...(same?.curves ?? []), ...fresh])
  confirm(writes, { order, revision: head.head.id, curves, dense: same?.dense ?? null })
}

/** All keyed curves of the clip, for the timing sheet; what has not changed is not asked for. */
async function fetchKeys(writes: Writes<Curves, Clip>, had: Known | null, clip: Clip) {
  const { order, head } = writes
  const since = had?.dense ? had.revision : undefined
  const got = await numbers(addressOf(clip, 'keys', { revision: head.head.id, since }))
  const fresh = curvesOf(got)
  const dense = new Set(had?.dense ?? [])
  // What is read out of the world is another with each head.
  const kept =
    since !== undefined ? [...had!.curves].filter(([key]) => readoutUnit(key) === undefined) : []
  const curves = new Map(kept)
  for (const key of fresh.keys()) dense.delete(key)
  for (const key of got.about.dense as ChannelKey[]) {
    dense.add(key)
    curves.delete(key)
  }
  for (const [key, curve] of fresh) curves.set(key, curve)
  confirm(writes, { order, revision: head.head.id, curves, dense })
}

async function fetchReadouts(writes: Writes<Curves, Clip>, clip: Clip, keys: ChannelKey[]) {
  const had = known!
  const joints = [...new Set(keys.map((key) => splitKey(key).joint))].join(',')
  const got = await numbers(addressOf(clip, 'tracks', { revision: had.revision, joints }))
  if (known === had) confirm(writes, { ...had, curves: new Map([...had.curves, ...curvesOf(got)]) })
}

function nextPoses(): Promise<void> | null {
  const { clip } = get()
  const solo = soloNamed() ?? ''
  if (!open || !clip || (posed.order === open.order && posed.solo === solo)) return null
  return posed.revision >= 0 && open.count ? null : fetchPoses(open, clip)
}

/** The poses of the head: all of them, or what differs from the poses that are here. */
async function fetchPoses(writes: Writes<Curves, Clip>, clip: Clip): Promise<void> {
  const { order, head } = writes
  const { revision } = posed
  const solo = soloNamed() ?? ''
  // With other layers alone all may stand otherwise.
  const since = revision >= 0 && posed.solo === solo ? revision : undefined
  const asked = { revision: head.head.id, since, solo: solo || undefined }
  const got = await numbers(addressOf(clip, 'poses', asked))
  if (writes !== open || posed.revision !== revision) return
  const { poses } = get()
  posed = { order, revision: head.head.id, solo }
  set({ poses: patched(since === undefined ? null : poses, got, clip.joints.length) })
  writes.arrived('poses', order)
}

function patched(base: ReturnType<typeof posesOf> | null, got: Message, joints: number) {
  const told = got.arrays.get('joints')!.data.length
  return base && told < joints ? withChanged(base, got) : posesOf(got, joints)
}

/** Keys that are no more are no longer selected. */
function dropGoneKeys(): void {
  const { keys } = useSelection.getState()
  if (!keys.size) return
  const curves = open!.shown
  const left = new Map<ChannelKey, Set<number>>()
  for (const [key, ids] of keys) {
    const curve = curves.get(key)
    if (curve?.kind !== 'keyed') continue
    const own = new Set([...curve.id].map(Number).filter((id) => ids.has(id)))
    if (own.size) left.set(key, own)
  }
  useSelection.setState({ keys: left })
}

async function loadNumbers(): Promise<void> {
  const { clip } = get()
  if (!clip) return
  const params = { path: { clip_id: clip.id }, query: { revision: clip.head.id } }
  const { GET } = client
  const measure = async () => {
    const [found, contacts] = await Promise.all([
      answer(GET('/api/clips/{clip_id}/findings', { params })),
      answer(GET('/api/clips/{clip_id}/contacts', { params })),
    ])
    if (isHead(clip)) set({ findings: found.findings, contacts, measured: clip.head.id })
  }
  const tell = async () => {
    const account = await answer(GET('/api/clips/{clip_id}/account', { params }))
    const frames = addressOf(clip, 'account/frames', { revision: clip.head.id })
    const lanes = (await numbers(frames)).arrays
    const of = (name: string) => lanes.get(name)!.data as Float32Array
    const moved = { mended: of('mended_mm'), rest: of('mm') }
    if (isHead(clip)) set({ account, accountOf: clip.head.id, moved })
  }
  await Promise.all([measure(), tell()])
}

const isHead = ({ id, head }: Clip): boolean =>
  get().clip?.id === id && get().clip?.head.id === head.id

/** What the joints are: asked anew when the clip or how it is read changes. */
export async function loadBody(): Promise<void> {
  const { clip } = get()
  if (!clip) return
  const params = { path: { clip_id: clip.id }, query: { revision: clip.head.id } }
  const body = await answer(client.GET('/api/clips/{clip_id}/body', { params }))
  if (get().clip?.id === clip.id) set({ body })
}

const PAUSE = 120 // ms

/** Bring all that belongs to the clip's head: first what is seen, its numbers in a pause. */
export async function bringAll(reread: boolean): Promise<void> {
  const { clip } = get()
  if (!clip) return
  const done = awaiting()
  try {
    await Promise.all([bringPoses(), bringCurves(), ...(reread ? [loadBody()] : [])])
    await bringPlan()
    await new Promise((go) => setTimeout(go, PAUSE))
    if (isHead(clip)) await loadNumbers()
  } catch (trouble) {
    notify(textOf(trouble))
  } finally {
    done()
  }
}

// What is seen alone is chosen at any time: the poses follow.
useLayers.subscribe(({ solo }, before) => {
  if (solo !== before.solo) catchUp()
})
