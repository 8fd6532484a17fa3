/** Hand work: keys and brushes, shown while they are dragged and sent when they are let go. */
import { answer, client, textOf } from '../api/client'
import { brushed, type Stroke } from '../evaluation/brush'
import {
  BASE,
  BROKEN,
  type ChannelKey,
  COLUMNS,
  type Curve,
  channelKey,
  type KeyedCurve,
  MUTED,
  RIDING,
  readoutUnit,
  splitKey,
} from '../evaluation/curves'
import { type Edits, type Ends, edited, freshId, type KeyEdit } from '../evaluation/keys'
import type { Scope } from '../evaluation/model'
import { byOwner, ownerOf, whose } from '../evaluation/owners'
import { type Slide, slid } from '../evaluation/sliding'
import { gathering } from '../sync/gathering'
import { apply, type Hand } from '../sync/write'
import { counted } from '../ui/numbers'
import { notify, useBench } from '../view/bench'
import { draft } from '../view/draft'
import { countKeys, keysAsScope, type Picked, selectKeys, useSelection } from '../view/selection'
import { shownChannels } from '../view/shown'
import { transport } from '../view/transport'
import { useViewing } from '../view/viewing'

const curves = () => useBench.getState().curves
const nameOf = (key: ChannelKey) => whose(useBench.getState().clip!, key)

/** A channel as a scope names it. */
const named = (key: ChannelKey): [string, string] => [nameOf(key), splitKey(key).channel]

/** Whose channels a scope is about, where they are not the figure's. */
const ownedBy = (owner: string): Scope => (owner === BASE ? {} : { owner })

/** Channels that can be worked on: those shown, without what is only read out. */
export function workedOn(): ChannelKey[] {
  return shownChannels(useBench.getState()).filter((key) => readoutUnit(key) === undefined)
}

/** Channels whose keys can be selected at once: on the timing sheet those of all joints. */
export function reachable(): ChannelKey[] {
  if (!useViewing.getState().timing) return workedOn()
  return [...curves().keys()].filter((key) => readoutUnit(key) === undefined)
}

/** Show edits without keeping them. */
export function showEdits(edits: Edits): void {
  const shown = new Map<ChannelKey, Curve>()
  for (const [key, list] of edits) {
    const curve = curves().get(key)
    if (curve?.kind === 'keyed') shown.set(key, edited(curve, list))
  }
  draft.set(shown)
}

/** Hand work for the line of changes: what it makes of each of the curves it touches. */
function handOf(
  touches: readonly ChannelKey[],
  change: (curve: Curve, key: ChannelKey) => Curve | null,
): Hand {
  return {
    touches,
    fold: (shown) => {
      const out = new Map(shown)
      for (const key of touches) {
        const curve = shown.get(key)
        const changed = curve && change(curve, key)
        if (changed) out.set(key, changed)
      }
      return out
    },
  }
}

const folded = (edits: Edits): Hand =>
  handOf([...edits.keys()], (curve, key) =>
    curve.kind === 'keyed' ? edited(curve, edits.get(key)!) : null,
  )

/** Whether what is shown as a draft differs from what stands. */
const changes = (): boolean =>
  [...draft.curves].some(([key, curve]) => differs(curve, curves().get(key)!))

const countOf = (count: number, what: string) => `${count} ${what}${count === 1 ? '' : 's'}`

type Placed = KeyEdit & { owner: string; joint: string; channel: string }

/** Edits of the same keys in a row as one: what was set last counts, of the key as it was first. */
function joinedEdits(first: readonly Placed[], next: readonly Placed[]): Placed[] {
  const nameOf = ({ owner, joint, channel, id }: Placed) => `${owner}/${joint}/${channel}/${id}`
  const old = new Map(first.map((edit) => [nameOf(edit), edit]))
  return next.map((edit) => {
    const was = old.get(nameOf(edit))
    return was ? { ...was, ...edit, frame: was.frame, was: was.was } : edit
  })
}

/** Keep edits: one line of the recipe, one step of undo. Where they are `nudges`, those of the
 * same keys in a row are one. */
export function commitEdits(
  edits: Edits,
  ends: Map<ChannelKey, Ends> = new Map(),
  nudges = false,
): Promise<boolean> {
  const placed = <T extends object>(key: ChannelKey, item: T) => {
    const { owner, channel } = splitKey(key)
    return { owner, joint: nameOf(key), channel, ...item }
  }
  const keys = [...edits].flatMap(([key, list]) => list.map((e) => placed(key, e)))
  if (!keys.length && !ends.size) {
    draft.drop()
    return Promise.resolve(false)
  }
  showEdits(edits)
  const nothing = !ends.size && !changes()
  draft.drop()
  // An edit that changes nothing is no step of the history.
  if (nothing) return Promise.resolve(false)
  const params: Record<string, unknown> = { keys }
  if (ends.size) params.ends = [...ends].map(([key, e]) => placed(key, e))
  const told = keys.length ? `The edit of ${countOf(keys.length, 'key')}` : 'How curves go on'
  const name = nudges ? `edit ${keys.map((k) => `${k.owner}/${k.joint}/${k.channel}/${k.id}`)}` : ''
  const join = (first: { keys: Placed[] }, next: { keys: Placed[] }) => ({
    keys: joinedEdits(first.keys, next.keys),
  })
  const gather = nudges ? gathering(name, join) : undefined
  return apply('edit', params, {}, told, { ...folded(edits), gather })
}

/** For each selected key what shall become of it. */
export function editSelected(
  make: (
    curve: KeyedCurve,
    k: number,
    key: ChannelKey,
  ) => Omit<KeyEdit, 'id' | 'frame' | 'was'> | null,
): Edits {
  const out: Edits = new Map()
  for (const [key, ids] of useSelection.getState().keys) {
    const curve = curves().get(key)
    if (curve?.kind !== 'keyed') continue
    const list: KeyEdit[] = []
    for (let k = 0; k < curve.time.length; k++) {
      const id = Number(curve.id[k])
      const what = ids.has(id) ? make(curve, k, key) : null
      if (what) list.push({ id, frame: curve.time[k]!, was: curve.value[k]!, ...what })
    }
    if (list.length) out.set(key, list)
  }
  return out
}

/** All columns of a key's handles, so that a later edit does not lean on an earlier one. */
export function shapeOf(curve: KeyedCurve, k: number) {
  return {
    slope_in: curve.slope_in[k]!,
    slope_out: curve.slope_out[k]!,
    length_in: curve.length_in[k]!,
    length_out: curve.length_out[k]!,
    broken: (curve.flags[k]! & BROKEN) !== 0,
  }
}

/** How far the selected keys may move in time, before they would meet a key that stays, or the
 * clip's start where they may pass others. Riding keys stand in nobody's way. */
export function roomToMove(passing = false): [number, number] {
  const gap = 1
  let low = Number.NEGATIVE_INFINITY
  let high = Number.POSITIVE_INFINITY
  for (const [key, ids] of useSelection.getState().keys) {
    const curve = curves().get(key)
    if (curve?.kind !== 'keyed') continue
    const stands = (k: number) => !ids.has(Number(curve.id[k])) && !(curve.flags[k]! & RIDING)
    let before: number | null = null
    const count = curve.time.length
    for (let k = 0; k < count; k++) {
      const t = curve.time[k]!
      if (!ids.has(Number(curve.id[k]))) {
        if (stands(k)) before = t
        continue
      }
      low = Math.max(low, -t)
      if (passing) continue
      if (before !== null) low = Math.max(low, Math.min(before + gap - t, 0))
      let n = k + 1
      while (n < count && !ids.has(Number(curve.id[n])) && !stands(n)) n++
      if (n < count && stands(n)) high = Math.min(high, Math.max(curve.time[n]! + gap - t, 0))
    }
  }
  return [low, high]
}

export const STILL: Slide = { by: 0, factor: 1, about: 0, whole_frames: true, copies: false }

/** Show the selected keys moved in time, shapes kept, without keeping it. */
export function showSlide(slide: Slide): void {
  const shown = new Map<ChannelKey, Curve>()
  for (const [key, ids] of useSelection.getState().keys) {
    const curve = curves().get(key)
    const moved = curve?.kind === 'keyed' ? slid(curve, ids, slide) : null
    if (moved) shown.set(key, moved)
  }
  draft.set(shown)
}

/** Keep it: one line of the recipe. Copies are selected in the place of their keys. */
/** Keep the selected keys, or all that are shown, and fit their handles to the motion again. */
export async function refit(): Promise<void> {
  const { clip } = useBench.getState()
  const { keys } = useSelection.getState()
  if (!clip) return
  const channels = keys.size ? [...keys.keys()] : workedOn()
  try {
    const fitted = await Promise.all(
      [...byOwner(channels)].map(([owner, own]) => {
        const scope: Scope = { ...ownedBy(owner), only: own.map(named) }
        if (keys.size) scope.keys = keysAsScope(of(keys, own), curves(), nameOf)
        return answer(
          client.POST('/api/clips/{clip_id}/refit', {
            params: { path: { clip_id: clip.id } },
            body: { revision: clip.head.id, scope },
          }),
        )
      }),
    )
    const found = fitted.flatMap((one) => one.keys)
    if (!found.length) notify('Nothing to fit: show channels that have keys.')
    else if (await apply('edit', { keys: found }, {}, 'Fit handles again'))
      notify(`The handles of ${counted(found.length, 'key')} follow the motion again.`)
  } catch (trouble) {
    notify(textOf(trouble))
  }
}

export function commitSlide(slide: Slide, nudges = false): void {
  const { keys } = useSelection.getState()
  if (!keys.size || (slide.by === 0 && slide.factor === 1)) {
    draft.drop()
    return
  }
  showSlide(slide)
  const made = new Map<ChannelKey, Set<number>>()
  if (slide.copies)
    for (const [key, ids] of keys) {
      const curve = curves().get(key)
      if (curve?.kind !== 'keyed' || !draft.curves.has(key)) continue
      const first = freshId(curve)
      made.set(key, new Set([...ids].map((_, n) => first + n)))
    }
  const left = keys.size - draft.curves.size
  const moving = [...draft.curves.keys()]
  const nothing = !changes()
  draft.drop()
  if (left)
    notify(
      `${left} of ${counted(keys.size, 'channel')} ${left === 1 ? 'stays' : 'stay'}: keys would meet others.`,
    )
  if (nothing) return
  const said = Object.entries(slide).filter(([name, v]) => v !== STILL[name as keyof Slide])
  for (const [owner, own] of byOwner(moving)) {
    const picked = of(keys, own)
    const name = `slide ${owner} ${[...picked].map(([key, ids]) => `${key}/${[...ids]}`)}`
    const hand = handOf(own, (curve, key) =>
      curve.kind === 'keyed' ? slid(curve, picked.get(key)!, slide) : null,
    )
    const join = (first: { by?: number }, next: { by?: number }) => ({
      by: (first.by ?? 0) + (next.by ?? 0),
    })
    void apply(
      'slide',
      Object.fromEntries(said),
      { ...ownedBy(owner), keys: keysAsScope(picked, curves(), nameOf) },
      `The move of ${countOf(countKeys(picked), 'key')}`,
      nudges ? { ...hand, gather: gathering(name, join) } : hand,
    )
  }
  if (made.size) selectKeys(made)
}

export function deleteSelected(): void {
  const edits = editSelected(() => ({ do: 'remove' }))
  for (const [key, list] of edits) {
    const curve = curves().get(key) as KeyedCurve
    const gone = new Set(list.map((edit) => edit.id))
    const live = (k: number) => !(curve.flags[k]! & MUTED)
    const left = [...curve.time.keys()].some((k) => live(k) && !gone.has(Number(curve.id[k])))
    // A curve keeps one key that is live.
    const kept = left ? -1 : [...curve.time.keys()].findIndex((k) => live(k))
    if (!left) list.splice(0, list.length, ...list.filter((e) => e.id !== Number(curve.id[kept])))
    if (!list.length) edits.delete(key)
  }
  selectKeys(new Map())
  void commitEdits(edits)
}

/** A key on each of the channels at a frame, shapes unchanged; the new keys are selected. */
export function setKeys(channels: readonly ChannelKey[], frame = transport.frame): void {
  const edits: Edits = new Map()
  const made = new Map<ChannelKey, Set<number>>()
  let dense = 0
  for (const key of channels) {
    const curve = curves().get(key)
    if (curve?.kind === 'sampled') dense++
    if (curve?.kind !== 'keyed') continue
    const there = curve.time.indexOf(frame)
    const id = there >= 0 ? Number(curve.id[there]) : freshId(curve)
    if (there < 0) edits.set(key, [{ id, frame, do: 'make' }])
    made.set(key, new Set([id]))
  }
  if (!made.size && dense) {
    notify('These channels have a value on every frame: thin them first, or use a brush.')
    return
  }
  void commitEdits(edits)
  selectKeys(made)
}

/** Channels of the selected joints that turn, that move, or along one axis. */
export function channelsOf(
  which: 'all' | 'turn' | 'move' | 'shown' | 'x' | 'y' | 'z',
): ChannelKey[] {
  const { clip, joints } = useBench.getState()
  if (!clip || which === 'shown') return workedOn()
  const wanted = (name: string) =>
    which === 'all' ||
    (which === 'turn' && name[0] === 'r') ||
    (which === 'move' && name[0] === 't') ||
    name[1] === which
  return joints.flatMap((j) =>
    clip.joints[j]!.channels.filter(wanted).map((name) => channelKey(j, name)),
  )
}

/** The part of a selection that is on some channels. */
const of = (keys: Picked, channels: readonly ChannelKey[]): Picked =>
  new Map(channels.flatMap((key) => (keys.has(key) ? [[key, keys.get(key)!]] : [])))

/** The scopes of a brush, one an owner: picked keys, or the channels that are shown. */
function handScopes(keys: Picked): Scope[] {
  const channels = keys.size ? [...keys.keys()] : workedOn()
  return [...byOwner(channels)].map(([owner, own]) => ({
    ...ownedBy(owner),
    ...(keys.size
      ? { keys: keysAsScope(of(keys, own), curves(), nameOf) }
      : { only: own.map(named) }),
  }))
}

/** The scope of an operation: picked keys, or the channels that are shown; the figure's where
 * both its and props' are. */
export const handScope = (keys: Picked = useSelection.getState().keys): Scope =>
  handScopes(keys)[0] ?? { only: [] }

export function showStroke(stroke: Stroke, take: ReadonlyMap<ChannelKey, Curve>): void {
  const { keys } = useSelection.getState()
  const shown = new Map<ChannelKey, Curve>()
  for (const key of keys.size ? keys.keys() : workedOn()) {
    const curve = curves().get(key)
    if (curve) shown.set(key, brushed(curve, stroke, take.get(key), keys.get(key) ?? null))
  }
  draft.set(shown)
}

function differs(a: Curve, b: Curve): boolean {
  if (a.kind === 'sampled' && b.kind === 'sampled')
    return a.values.some((v, f) => v !== b.values[f])
  if (a.kind === 'sampled' || b.kind === 'sampled') return true
  if (a.time.length !== b.time.length) return true
  return COLUMNS.some((name) => a[name].some((v, k) => v !== b[name][k]))
}

export function commitStroke(stroke: Stroke): void {
  const { keys } = useSelection.getState()
  const scopes = handScopes(keys)
  const touched = [...draft.curves.keys()]
  const reached = changes()
  draft.drop()
  if (!reached) {
    notify('No key lies within the brush’s radius: make it larger, or set a key first.')
    return
  }
  const { take } = useViewing.getState()
  for (const scope of scopes) {
    const own = touched.filter((key) => ownerOf(key) === (scope.owner ?? BASE))
    if (!own.length) continue
    const hand = handOf(own, (curve, key) =>
      brushed(curve, stroke, take.get(key), keys.get(key) ?? null),
    )
    void apply('brush', { ...stroke }, scope, 'The brush stroke', hand)
  }
}
