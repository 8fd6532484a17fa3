/** Plants by hand: every change is an edit of the clip, one line for edits in a row. */
import type { Schemas } from '../api/client'
import type { Plant } from '../evaluation/model'
import { gathering } from '../sync/gathering'
import { apply } from '../sync/write'
import { useBench } from '../view/bench'
import { transport } from '../view/transport'
import { inMillimetres } from './lengths'

const { setState: set } = useBench

export type PlantEdit = Omit<Partial<Plant>, 'part' | 'first' | 'last' | 'turn'> & {
  new_first?: number
  new_last?: number
  rule?: string
  move?: [number, number, number]
  hold_turn?: boolean
  on_floor?: boolean
  stand_on?: string
}

export const samePlant = (a: Plant | null, b: Plant | null): boolean =>
  a !== null && b !== null && a.part === b.part && a.first === b.first && a.last === b.last

/** What is set of a plant and leaves all else of it alone. */
const FIELDS = new Set(['ease_in', 'ease_out', 'ease', 'strength', 'hips', 'place', 'muted'])

const named = ({ part, first, last }: Plant) => ({ part, first, last })

/** Select a plant, or none; a contact that was selected is let go of. */
export function choosePlant(plant: Plant | null): void {
  set({ plant, contact: null })
}

export async function changePlant(plant: Plant, change: PlantEdit): Promise<void> {
  const { clip } = useBench.getState()
  if (!clip) return
  const lengths = {
    ...(change.place && { place: inMillimetres(clip, change.place) }),
    ...(change.move && { move: inMillimetres(clip, change.move) }),
  }
  const edit = { do: 'set', ...named(plant), ...change, ...lengths }
  const { part, first: from, last: to } = plant
  // Fields that are typed or dragged one way and another are one step; a move adds to the last.
  const fields = Object.keys(change).every((field) => FIELDS.has(field))
  const gather = fields
    ? gathering<{ edits: object[] }>(`plant ${part} ${from} ${to}`, (a, b) => ({
        edits: [{ ...a.edits[0], ...b.edits[0] }],
      }))
    : undefined
  if (!(await apply('edit_plants', { edits: [edit] }, {}, 'The plant', { gather }))) return
  const first = change.new_first ?? plant.first
  const last = change.new_last ?? plant.last
  const now = useBench.getState().clip?.plants
  set({ plant: now?.find((p) => samePlant(p, { ...plant, first, last })) ?? null })
}

export function freePlant(plant: Plant): void {
  void apply('edit_plants', { edits: [{ do: 'remove', ...named(plant) }] })
  set({ plant: null })
}

/** Mute all plants, or let all of them hold again. */
export function muteAll(plants: readonly Plant[], muted: boolean): void {
  const edits = plants.map((p) => ({ do: 'set', ...named(p), muted }))
  if (edits.length) void apply('edit_plants', { edits })
}

/** Hold a part where it is, over the range where one is set, else half a second from now on. */
export async function plantFromNow(part: string): Promise<void> {
  const [a, b] = transport.range
  const end = transport.frames - 1
  const ranged = a > 0 || b < end
  const first = ranged ? a : transport.frame
  const last = ranged ? b : Math.min(end, first + Math.round(0.5 * transport.rate))
  if (!(await apply('edit_plants', { edits: [{ do: 'add', part, first, last }] }))) return
  const now = useBench.getState().clip?.plants
  set({ plant: now?.find((p) => p.part === part && p.first === first) ?? null })
}

/** What a plant's place is relative to, in words. */
export const heldWith = (plant: Plant): string =>
  plant.with_prop || plant.with_joint
    ? `with ${plant.with_prop || plant.with_joint}`
    : 'in the world'

export type PlantFigures = Schemas['PlantFiguresOut']
