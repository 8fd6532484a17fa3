/** The bench's state: the clip, its poses and curves, what is selected, what is previewed.
 *
 * The server is the authority; what is shown is what it confirmed, with changes that are on their
 * way folded over it. Time lives in the transport.
 */
import { create } from 'zustand'
import type { Schemas } from '../api/client'
import type { ChannelKey, Curve, Readout } from '../evaluation/curves'
import type { Clip, Contact, Finding, Plant, Scope } from '../evaluation/model'
import type { Poses } from '../evaluation/poses'

export type StepName =
  | 'bring-in'
  | 'inspect'
  | 'unflip'
  | 'calm'
  | 'thin'
  | 'plant'
  | 'balance'
  | 'retarget'
  | 'shape'
  | 'join'
  | 'deliver'
  | 'recipe'

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

/** What was not kept, why, and how it is made all the same. */
export interface Refusal {
  told: string
  /** How many changes it is. */
  count: number
  theirs: string[]
  yours: string[]
  /** What others did meanwhile, the oldest first. */
  changes: Schemas['ChangeOut'][]
  again: () => void
}

/** How far ends were moved on each frame, mm: by mends, and by all the rest. */
export interface Moved {
  mended: Float32Array
  rest: Float32Array
}

export interface BenchState {
  clip: Clip | null
  trouble: string | null
  poses: Poses | null
  /** The revision that `poses` are of. */
  posed: number | null
  curves: ReadonlyMap<ChannelKey, Curve>
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
  /** Changes are on their way. */
  saving: boolean
  /** How many of them, and why they do not get through; null while the server answers. */
  pending: number
  away: string | null
  /** Redo brings back what was undone before the server had it. */
  redoes: boolean
  /** A change that was refused and can be made again over what stands now. */
  refusal: Refusal | null
  /** Who else is on the clip. */
  others: string[]
  ghost: boolean
  /** What the recipe did, and the revision that it is of. */
  account: Schemas['AccountOut'] | null
  accountOf: number | null
  /** Per frame how far any end was moved, millimetres. */
  moved: Moved | null
  findings: Finding[] | null
  /** The revision that findings and contacts are of. */
  measured: number | null
  contacts: Schemas['ContactsOut'] | null
  /** The contact span that is selected on the strip and in its list. */
  contact: Contact | null
  /** The plant that is selected on the strip, on the stage and in its list. */
  plant: Plant | null
  /** The prop that is open in the panel, by its id. */
  prop: number | null
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
  pending: 0,
  away: null,
  redoes: false,
  refusal: null,
  others: [],
  ghost: true,
  account: null,
  accountOf: null,
  moved: null,
  findings: null,
  measured: null,
  contacts: null,
  contact: null,
  plant: null,
  prop: null,
  body: null,
  notice: null,
}))

const { getState: get, setState: set } = useBench

/** Show a notice for a moment; errors say what to do, notices that something was done. */
export function notify(text: string): void {
  set({ notice: text })
  setTimeout(() => {
    if (get().notice === text) set({ notice: null })
  }, 6000)
}
