/** Partners: figures of other clips in this one's scene, drawn, changed, followed and met. */
import { create } from 'zustand'
import { addressOf, answer, client, clipOfTake, numbers, type Schemas, textOf } from '../api/client'
import type { Fit } from '../evaluation/fit'
import type { Clip } from '../evaluation/model'
import { type Poses, posesOf } from '../evaluation/poses'
import { apply, meet } from '../sync/write'
import { notify, useBench } from '../view/bench'
import { freeName } from './names'

export type Partner = Schemas['PartnerOut']
type Source = Schemas['PartSourceOut']

/** A partner's clip, and its poses as it is pinned. */
export interface Figured {
  clip: Clip
  poses: Poses
  /** What its joints are taken for. */
  roles: (string | null)[]
}

interface Partners {
  /** The clip that they are told of. */
  of: number | null
  /** Where they were taken from, by their digests. */
  sources: ReadonlyMap<string, Source>
  /** Those that can be drawn, by their digests. */
  figures: ReadonlyMap<string, Figured>
  /** The one that is changed, by its name. */
  chosen: string | null
  /** The joint of it that was chosen, by its name. */
  joint: string | null
}

const nobody: Partners = {
  of: null,
  sources: new Map(),
  figures: new Map(),
  chosen: null,
  joint: null,
}

export const usePartners = create<Partners>(() => nobody)

const { getState: get, setState: set } = usePartners

export const MOST = 3

/** Frames of the other clip that pass on each of this one. */
export const paceOf = (clip: Clip, other: Clip): number =>
  other.rate[0]! / other.rate[1]! / (clip.rate[0]! / clip.rate[1]!)

async function figureOf(source: Source): Promise<Figured> {
  const path = { clip_id: source.clip }
  const query = { revision: source.revision }
  const [clip, body] = await Promise.all([
    answer(client.GET('/api/clips/{clip_id}', { params: { path } })),
    answer(client.GET('/api/clips/{clip_id}/body', { params: { path, query } })),
  ])
  const got = await numbers(addressOf(clip, 'poses', query))
  const roles = body.joints.map((joint) => joint.role)
  return { clip, roles, poses: posesOf(got, clip.joints.length) }
}

/** Bring what a clip's partners are drawn from, and what their clips have become. */
export async function bringPartners(clip: Clip): Promise<void> {
  if (get().of !== clip.id) set({ ...nobody, of: clip.id })
  if (!clip.partners.length) return
  const params = { path: { clip_id: clip.id }, query: { revision: clip.head.id } }
  try {
    const told = await answer(client.GET('/api/clips/{clip_id}/sources', { params }))
    if (get().of !== clip.id) return
    const sources = new Map(told.map((source) => [source.state, source]))
    set({ sources })
    for (const { digest, muted } of clip.partners) {
      const source = sources.get(digest)
      if (!source || muted || get().figures.has(digest)) continue
      const figure = await figureOf(source)
      if (get().of !== clip.id) return
      set({ figures: new Map(get().figures).set(digest, figure) })
    }
  } catch (error) {
    notify(textOf(error))
  }
}

export const choosePartner = (name: string | null): void => set({ chosen: name, joint: null })

export const chooseItsJoint = (joint: string): void => set({ joint })

/** The joint of a partner that is followed or met: the one that was chosen, else its right hand. */
export function itsJoint({ clip, roles }: Figured, chosen: string | null): string {
  const joints = clip.joints.map((joint) => joint.name)
  if (chosen !== null && joints.includes(chosen)) return chosen
  return joints[roles.indexOf('right hand')] ?? joints[0]!
}

const edit = (change: object, digest?: string): Promise<boolean> =>
  apply(
    'edit_partners',
    { edits: [change] },
    {},
    undefined,
    undefined,
    digest ? { figures: [digest] } : null,
  )

/** Let a take's clip stand in the scene as it is now. */
export async function addPartner(take: number): Promise<void> {
  const { clip } = useBench.getState()
  if (!clip) return
  try {
    const other = await clipOfTake(take)
    const taken = clip.partners.map((p) => p.name)
    const name = freeName(other.name.slice(0, 56), taken)
    if (await edit({ do: 'add', name, other: 0 }, other.head.state)) choosePartner(name)
  } catch (error) {
    notify(textOf(error))
  }
}

export const changePartner = (partner: Partner, change: object): Promise<boolean> =>
  edit({ do: 'set', name: partner.name, ...change })

/** Let it stand as its clip is now. */
export const updatePartner = (partner: Partner, newest: string): Promise<boolean> =>
  edit({ do: 'set', name: partner.name, other: 0 }, newest)

export const removePartner = (partner: Partner): Promise<boolean> =>
  edit({ do: 'remove', name: partner.name })

/** What an edit of a prop says of where a partner stands. */
const laid = ({ later, moved, turned }: Partner) => ({ other: 0, later, moved, turned })

/** A point that goes where a partner's joint goes, for plants to hold. */
export function followPartner(partner: Partner, joint: string): Promise<boolean> {
  const { clip } = useBench.getState()
  if (!clip) return Promise.resolve(false)
  const taken = clip.props.map((p) => p.name)
  const name = freeName(`${partner.name} ${joint}`.slice(-56), taken)
  const made = { do: 'add', name, shape: 'point', size: [80, 80, 80], joints: [joint] }
  return apply('edit_props', { edits: [{ ...made, ...laid(partner) }] }, {}, undefined, undefined, {
    others: [partner.digest],
  })
}

/** A prop goes with a partner's joint from a frame on, as it lies there. */
export const handToPartner = (
  prop: string,
  partner: Partner,
  joint: string,
  frame: number,
): Promise<boolean> =>
  apply(
    'edit_props',
    { edits: [{ do: 'hand_over', name: prop, frame, joints: [joint], ...laid(partner) }] },
    {},
    undefined,
    undefined,
    { others: [partner.digest] },
  )

/** Hold a hand of each at a place between them, in the partner's clip as well. */
export const meetHalfWay = (
  partner: Partner,
  joint: string,
  theirs: string,
  [first, last]: [number, number],
): Promise<boolean> => meet({ partner: partner.name, joint, theirs, first, last })

/** How a partner stands in the clip's own unit: the clip's placement takes it along. */
export function standOf(clip: Clip, partner: Partner): Fit {
  const mm = clip.reading.metres_per_unit * 1000
  const by = partner.moved.map((v) => v / mm) as [number, number, number]
  const { placement } = clip
  if (!placement || placement.muted) return { turn: (partner.turned * Math.PI) / 180, by }
  const turn = (placement.turn * Math.PI) / 180
  const up = 'xyz'.indexOf(clip.reading.up_axis)
  // The two axes along the floor, in the order in which a turn about the up axis goes round.
  const [a, b] = [(up + 1) % 3, (up + 2) % 3] as [number, number]
  const from = by.map((v, k) => v - placement.about[k]!) as [number, number, number]
  const turned = [...from] as [number, number, number]
  turned[a] = placement.scale * (from[a]! * Math.cos(turn) - from[b]! * Math.sin(turn))
  turned[b] = placement.scale * (from[a]! * Math.sin(turn) + from[b]! * Math.cos(turn))
  return {
    turn: (partner.turned * Math.PI) / 180 + turn,
    by: turned.map((v, k) => v + placement.about[k]! + placement.move[k]!) as typeof turned,
  }
}
