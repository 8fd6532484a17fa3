/** Lanes of the time strip: keys, contacts of each limb, a kind of finding each. */
import type { Seam } from '../actions/joining'
import type { Contact, Finding, Mark, Plant } from '../evaluation/model'
import { useCatalogue } from '../sync/catalogue'
import type { Moved } from '../view/bench'

export const LEFT = 14
export const RULER = 16
export const LANE_HEIGHT = 11

export type Lane =
  /** A foot has its heel above and its toe below. */
  | { kind: 'contact'; label: string; upper: Contact[]; lower: Contact[] }
  /** Likewise; each with the ramps over which it comes and goes. */
  | { kind: 'plant'; label: string; upper: Plant[]; lower: Plant[] }
  | { kind: 'finding'; label: string; findings: Finding[] }
  | { kind: 'keys'; label: string }
  /** What is joined: bars that lie alternately above and below, slanted where they blend. */
  | { kind: 'parts'; label: string; bars: PartBar[] }
  | { kind: 'pins'; label: string }
  | { kind: 'marks'; label: string; marks: Mark[] }
  /** Height by the distance from the take, full at `most` mm: mends hatched, the rest solid. */
  | { kind: 'drift'; label: string; moved: Moved; most: number }

/** A clip of a join, on the frames of the joined one. */
export interface PartBar {
  name: string
  first: number
  last: number
  /** Over how many frames it comes in and goes out. */
  into: number
  out: number
  /** Whether it lies above. */
  upper: boolean
}

/** The bars of what is joined, from its seams. */
export function barsOf(first: string, seams: readonly Seam[], frames: number): PartBar[] {
  const starts = [0, ...seams.map((s) => s.first)]
  return starts.map((start, k) => ({
    name: k === 0 ? first : seams[k - 1]!.name,
    first: start,
    last: seams[k]?.last ?? frames - 1,
    into: k === 0 ? 0 : seams[k - 1]!.last - seams[k - 1]!.first,
    out: seams[k] ? seams[k]!.last - seams[k]!.first : 0,
    upper: k % 2 === 0,
  }))
}

/** The kinds that span the whole clip by their nature have no lane: they are listed. */
const NO_LANE = new Set(['idle'])

/** All contacts on one line, the left limbs above the right ones, and all findings on another. */
function folded(findings: Finding[], contacts: Contact[], plants: Plant[]): Lane[] {
  const lanes: Lane[] = []
  const of = (side: string) => contacts.filter((c) => c.limb.startsWith(side))
  if (contacts.length)
    lanes.push({
      kind: 'contact',
      label: 'contacts, L R',
      upper: of('left'),
      lower: of('right'),
    })
  if (plants.length)
    lanes.push({
      kind: 'plant',
      label: 'plants, L R',
      upper: plants.filter((p) => !p.part.startsWith('right')),
      lower: plants.filter((p) => p.part.startsWith('right')),
    })
  const shown = findings.filter((f) => !NO_LANE.has(f.kind))
  const open = shown.filter((f) => !f.accepted).length
  if (shown.length)
    lanes.push({
      kind: 'finding',
      label: `${open} ${open === 1 ? 'finding' : 'findings'}`,
      // The gravest is drawn over the others.
      findings: [...shown].sort((a, b) => a.severity - b.severity),
    })
  return lanes
}

const highest = (mm: Float32Array): number => mm.reduce((a, b) => Math.max(a, b), 0)

export function lanesOf(
  findings: Finding[],
  contacts: Contact[],
  drift: Moved | null,
  marks: Mark[],
  plants: Plant[],
  pinned: boolean,
  unfolded: boolean,
  bars: PartBar[] = [],
): Lane[] {
  const lanes: Lane[] = bars.length > 1 ? [{ kind: 'parts', label: 'parts', bars }] : []
  lanes.push({ kind: 'keys', label: 'keys' })
  if (pinned) lanes.push({ kind: 'pins', label: 'time pins' })
  if (marks.length) lanes.push({ kind: 'marks', label: 'marks', marks })
  if (!unfolded) return [...lanes, ...folded(findings, contacts, plants)]
  const most = drift ? Math.max(highest(drift.rest), highest(drift.mended)) : 0
  if (drift && most > 0.01)
    lanes.push({
      kind: 'drift',
      label: `drift ≤ ${most.toFixed(most < 10 ? 1 : 0)} mm`,
      moved: drift,
      most,
    })
  const of = (limb: string) => contacts.filter((c) => c.limb === limb)
  for (const side of ['left', 'right']) {
    const upper = [...of(`${side} heel`), ...of(`${side} foot`)]
    const lower = of(`${side} toe`)
    if (upper.length || lower.length)
      lanes.push({
        kind: 'contact',
        label: lower.length ? `${side} heel, toe` : `${side} foot`,
        upper,
        lower,
      })
  }
  for (const limb of ['left hand', 'right hand', 'airborne'])
    if (of(limb).length) lanes.push({ kind: 'contact', label: limb, upper: of(limb), lower: [] })
  const held = [...new Set(plants.map((p) => p.part))].filter((part) => !/ (heel|toe)$/.test(part))
  const with_ = (part: string) => plants.filter((p) => p.part === part)
  for (const side of ['left', 'right']) {
    const [upper, lower] = [with_(`${side} heel`), with_(`${side} toe`)]
    if (upper.length || lower.length)
      lanes.push({ kind: 'plant', label: `${side} planted`, upper, lower })
  }
  for (const part of held)
    lanes.push({ kind: 'plant', label: `${part} planted`, upper: with_(part), lower: [] })
  for (const kind of useCatalogue.getState().kinds) {
    const mine = findings.filter((f) => f.kind === kind.name)
    if (mine.length && !NO_LANE.has(kind.name))
      lanes.push({ kind: 'finding', label: kind.plural, findings: mine })
  }
  return lanes
}
