/** Retargeting the clip onto another skeleton: what is wished, what it would look like, what was made. */
import { create } from 'zustand'
import { debounced } from '../api/awaited'
import { ApiError, numbers, type Schemas, textOf } from '../api/client'
import type { Clip } from '../evaluation/model'
import { type Poses, posesOf } from '../evaluation/poses'
import { useBench } from '../view/bench'

/** What a figure is drawn from. */
export type Drawn = Pick<Clip, 'joints' | 'end_sites' | 'height' | 'skin'> & {
  reading: Pick<Clip['reading'], 'metres_per_unit' | 'up_axis'>
}

export type Turn = [number, number, number]

export interface Wishes {
  /** Source joints of target joints, as set by hand; '' for none. */
  joints: Record<string, string>
  /** Chains that follow others, as set by hand: first and last joint of each. */
  chains: Schemas['ChainIO'][]
  /** Turns of target joints at rest: degrees about left, up and forward. */
  rest: Record<string, Turn>
  travel: 'by stride' | 'as it was' | 'by a factor'
  factor: number
  feet: number
  hands: number
  thing: number
  /** Relative to what a hand is told, where that is not as retargeted. */
  spaces: Record<string, string>
  clavicles: number
  rest_frame: number | null
  keys: 'as the source has them' | 'on every frame'
  tolerance_deg: number
  plant: boolean
}

export interface Retargeted {
  doc: Drawn
  roles: (string | null)[]
  poses: Poses
  report: Report
}

export interface Report {
  mapped: number
  unmapped: string[]
  doubtful: string[]
  rest_is_pose: boolean
  ends: { limb: string; largest: number; largest_mm: number; frame: number }[]
  foot_slide_before_mm: number
  foot_slide_mm: number
  hips_lowered_mm: number
  hips_lowered_frame: number
  missed_mm: number
  /** Joints whose rotations are given in another order than the source's. */
  reordered: number
  /** How long it took. */
  seconds: number
  keys_kept?: number
  keys_added?: number
  touches: { hand: string; part: string; first: number; last: number }[]
}

interface Retargeting {
  /** The take whose skeleton is retargeted onto; null until one is chosen. */
  target: number | null
  wishes: Wishes
  preview: Retargeted | null
  asking: boolean
  trouble: string | null
  /** Metres to the side at which the retargeted figure stands; 0 is over this one. */
  beside: number
  /** The target joint that is looked at. */
  joint: string | null
}

export const PLAIN: Wishes = {
  joints: {},
  chains: [],
  rest: {},
  travel: 'by stride',
  factor: 1,
  feet: 1,
  hands: 1,
  thing: 1,
  spaces: {},
  clavicles: 1,
  rest_frame: null,
  keys: 'as the source has them',
  tolerance_deg: 0.5,
  plant: true,
}

/** How far to the side a retargeted figure stands: two with their arms held out do not touch. */
export const BESIDE_M = 1.8

export const useRetargeting = create<Retargeting>(() => ({
  target: null,
  wishes: PLAIN,
  preview: null,
  asking: false,
  trouble: null,
  beside: BESIDE_M,
  joint: null,
}))

const { getState: get, setState: set } = useRetargeting

/** The line by which a retargeted clip was made. */
export const retargetLine = (clip: Clip | null) =>
  clip?.head.recipe.find((line) => line.operation === 'retarget') ?? null

const SOON = 120 // ms

let asked = new AbortController()
const view = crypto.randomUUID()
let sequence = 0

/** Ask what retargeting would make; the newest question counts. */
async function ask(): Promise<void> {
  const { clip } = useBench.getState()
  const { target, wishes } = get()
  if (!clip || (target === null && !retargetLine(clip))) return
  asked.abort()
  asked = new AbortController()
  const { signal } = asked
  set({ asking: true })
  try {
    const got = await numbers(
      `/api/clips/${clip.id}/retarget/preview/whole`,
      {
        revision: clip.head.id,
        target,
        params: wishes,
        view,
        sequence: ++sequence,
      },
      signal,
    )
    const figure = got.about.figure as Pick<Clip, 'joints' | 'end_sites' | 'height' | 'skin'> & {
      metres_per_unit: number
      up_axis: Clip['reading']['up_axis']
      roles: string[]
    }
    const { joints, end_sites, height, skin, metres_per_unit, up_axis, roles } = figure
    set({
      asking: false,
      trouble: null,
      preview: {
        doc: { joints, end_sites, height, skin, reading: { metres_per_unit, up_axis } },
        roles,
        poses: posesOf(got, joints.length),
        report: got.about.report as unknown as Report,
      },
    })
  } catch (trouble) {
    if (trouble instanceof DOMException) return
    if (trouble instanceof ApiError && trouble.status === 410) return
    set({ asking: false, preview: null, trouble: textOf(trouble) })
  }
}

/** Ask once nothing has been changed for a moment. */
const asking = debounced(() => void ask(), SOON)
export const askSoon = asking.soon

/** Wish something else; what it makes is shown as soon as it is known. */
export function wish(change: Partial<Wishes>): void {
  set({ wishes: { ...get().wishes, ...change } })
  askSoon()
}

/** Another skeleton: what was set by hand for the pair comes with it. */
export function retargetOnto(
  target: number | null,
  { joints, chains, rest }: Pick<Schemas['MapOut'], 'joints' | 'chains' | 'rest'>,
): void {
  set({
    target,
    wishes: { ...get().wishes, joints, chains, rest: rest as Record<string, Turn> },
    preview: null,
    joint: null,
  })
  askSoon()
}

/** Nothing of it means anything for another clip. */
export function retargetAnew(): void {
  asking.off()
  asked.abort()
  set(useRetargeting.getInitialState())
}
