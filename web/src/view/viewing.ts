/** How the clip is looked at: pinned and hidden channels, traces, trails. Changes no motion. */
import { create } from 'zustand'
import type { Schemas } from '../api/client'
import type { ChannelKey, Curve } from '../evaluation/curves'
import type { Poses } from '../evaluation/poses'
import { draft } from './draft'

/** What is drawn behind the curves: nothing, the take, or a revision of this clip. */
export type TraceChoice = 'none' | 'take' | number

/** Another figure's curve laid over, to be matched by hand. */
export interface Guide {
  take: number
  clip: number
  revision: number
  name: string
  frames: number
  /** The other clip's document: its joints and its figure. */
  doc: Schemas['ClipOut']
  joint: number
  channel: string
  /** Frames by which it comes later here. */
  offset: number
  /** Raised so that it meets the first shown curve now. */
  raised: number
  /** Metres to the side at which its figure stands. */
  beside: number
}

export interface Viewing {
  /** The timing sheet is shown in the curve sheet's place. */
  timing: boolean
  /** Channels that stay while the selection changes. */
  pinned: ChannelKey[]
  hidden: ReadonlySet<ChannelKey>
  muted: ReadonlySet<ChannelKey>
  hovered: ChannelKey | null
  trace: TraceChoice
  traced: ReadonlyMap<ChannelKey, Curve>
  /** The take's curves on this clip's time, for the brush that restores. */
  take: ReadonlyMap<ChannelKey, Curve>
  guide: Guide | null
  guideCurve: Curve | null
  guidePoses: Poses | null
  /** Play from key to key, in-betweens held. */
  hold: boolean
  trails: boolean
  /** The centre of mass, with its path where trails are shown. */
  weight: boolean
  ghosts: boolean
  /** The stage in two views; its views go along with the root. */
  split: boolean
  follow: boolean
  /** Metres between the floor's lines, 0 for none; a post and a person to read sizes by. */
  grid: number
  post: boolean
  person: boolean
  /** The figure as lines and dots. */
  bare: boolean
  /** A figure that came with a body of its own is drawn as that. */
  own: boolean
  /** Frames before and after now that trails and ghosts show, and between ghosts. */
  span: number
  apart: number
  /** Time goes along to a key that is picked. */
  follows: boolean
  /** Where an edit without a place was, to be placed by hand. */
  lost: { key: ChannelKey; frame: number; value: number } | null
  /** Keys that are moved go past their neighbours, instead of stopping at them. */
  passes: boolean
  /** Values snap to whole steps of this, 0 for none. */
  step: number
}

const FOLLOWS = 'lean.sheet.follows'
const BARE = 'lean.stage.bare'
const OWN = 'lean.stage.own'

export const useViewing = create<Viewing>(() => ({
  timing: false,
  pinned: [],
  hidden: new Set(),
  muted: new Set(),
  hovered: null,
  trace: 'none',
  traced: new Map(),
  take: new Map(),
  guide: null,
  guideCurve: null,
  guidePoses: null,
  hold: false,
  trails: false,
  weight: false,
  ghosts: false,
  split: false,
  follow: false,
  grid: 0.5,
  post: false,
  person: false,
  bare: localStorage.getItem(BARE) === 'on',
  own: localStorage.getItem(OWN) !== 'off',
  span: 20,
  apart: 5,
  follows: localStorage.getItem(FOLLOWS) !== 'off',
  lost: null,
  passes: false,
  step: 0,
}))

const { getState: get, setState: set } = useViewing

/** How one likes to look, whatever is looked at. */
const KEPT = [
  ...(['timing', 'follows', 'passes', 'step', 'span', 'apart'] as const),
  ...(['split', 'follow', 'grid', 'post', 'person', 'bare', 'own', 'weight'] as const),
]

/** A clip is opened: what was looked at in another means nothing here. */
export function lookAnew(): void {
  const now = get()
  const kept: Partial<Viewing> = Object.fromEntries(KEPT.map((name) => [name, now[name]]))
  set({ ...useViewing.getInitialState(), ...kept })
  draft.mute(new Set())
}

export type Drawing = 'own' | 'drawn' | 'bare'

/** Draw figures as their own bodies, as the drawn one, or as lines and dots. */
export function drawAs(how: Drawing): void {
  const [bare, own] = [how === 'bare', how === 'own' || (how === 'bare' && get().own)]
  localStorage.setItem(BARE, bare ? 'on' : 'off')
  localStorage.setItem(OWN, own ? 'on' : 'off')
  set({ bare, own })
}

export function setFollows(follows: boolean): void {
  localStorage.setItem(FOLLOWS, follows ? 'on' : 'off')
  set({ follows })
}

const toggled = (set: ReadonlySet<ChannelKey>, keys: readonly ChannelKey[]) => {
  const all = keys.every((k) => set.has(k))
  const out = new Set(set)
  for (const k of keys) all ? out.delete(k) : out.add(k)
  return out
}

export function toggleMuted(keys: readonly ChannelKey[]): void {
  const muted = toggled(get().muted, keys)
  set({ muted })
  draft.mute(muted)
}

export const toggleHidden = (keys: readonly ChannelKey[]): void =>
  set({ hidden: toggled(get().hidden, keys) })

/** Pin what is shown; pinned already, let it go. */
export function togglePinned(shown: readonly ChannelKey[]): void {
  set({ pinned: get().pinned.length ? [] : [...shown] })
}
