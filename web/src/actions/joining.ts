/** Clips that follow this one: what is wished of them, what stands, and where two of them meet. */
import { create } from 'zustand'
import { answer, client, clipOfTake, numbers, type Schemas, textOf } from '../api/client'
import { type Fit, fitOf } from '../evaluation/fit'
import type { Clip } from '../evaluation/model'
import { emptyWorld, forward, type Poses, posesOf } from '../evaluation/poses'
import { cancelPreview, startPreview } from '../sync/previews'
import { write } from '../sync/write'
import { type BenchState, useBench } from '../view/bench'

type Triple = [number, number, number]

/** What a line says of a part; what is absent is found out. */
export interface Told {
  name: string
  enter?: number
  leave?: number
  before?: number
  past?: number
  ease_before?: string
  ease_past?: string
  arms_later?: number
  head_later?: number
  /** Steps within the blend fall together. */
  match_steps?: boolean
  speed?: number
  reversed?: boolean
  mirrored?: boolean
  /** Where it is laid by hand: millimetres, and degrees about the up axis. */
  move?: Triple
  turn?: number
  /** The joint that stands where it stood. */
  laid_by?: string
}

export interface Part {
  told: Told
  /** The document that is joined, by its digest. */
  state: string
}

export interface Seam {
  name: string
  leave: number
  enter: number
  count: number
  /** Frames of the joined clip. */
  at: number
  first: number
  last: number
  distance_mm: number
  turned_deg: number
  moved_mm: Triple
  slide_mm: number
  /** Ends of contacts that fall together by `match_steps`. */
  matched: number
  good: boolean
  unlike: string[]
}

/** A pair of frames: one at which what comes before is left, one at which the part is entered. */
export interface Pair {
  leave: number
  enter: number
}

export interface Best extends Pair {
  distance_mm: number
  turned_deg: number
  good: boolean
  unlike: string[]
}

/** All pairs of frames about a seam, and the poses of both clips. */
export interface Pairs {
  seam: number
  mm: Float32Array
  wide: number
  high: number
  best: Best[]
  before: Poses
  part: Poses
  points: number[]
}

interface Joining {
  parts: Part[]
  leave: number | null
  /** The seam whose pairs are looked at; null where none is. */
  open: number | null
  pairs: Pairs | null
  finding: boolean
  trouble: string
  /** The pair that the stage shows. */
  over: Pair | null
  /** Seams of the line that stands. */
  standing: Seam[]
  /** Clips that parts were taken from, by the part's document. */
  sources: ReadonlyMap<string, Schemas['PartSourceOut']>
}

export const useJoining = create<Joining>(() => ({
  parts: [],
  leave: null,
  open: null,
  pairs: null,
  finding: false,
  trouble: '',
  over: null,
  standing: [],
  sources: new Map(),
}))

const { getState: get, setState: set } = useJoining

export const lineIn = (clip: Clip) =>
  clip.head.recipe.findLast((line) => line.operation === 'join' && !line.aside)

/** The parts that a clip's recipe joins. */
function partsIn(clip: Clip): Pick<Joining, 'parts' | 'leave'> {
  const line = lineIn(clip)
  const states = [line?.inputs.parts ?? []].flat()
  const told = (line?.params.parts ?? []) as Told[]
  return {
    parts: states.map((state, k) => ({ state, told: told[k] ?? { name: `part ${k + 1}` } })),
    leave: (line?.params.leave as number | undefined) ?? null,
  }
}

/** Whether what is wished is what stands. */
export function asItStands(clip: Clip, { parts, leave }: Pick<Joining, 'parts' | 'leave'>) {
  return (
    lineIn(clip) !== undefined && JSON.stringify(partsIn(clip)) === JSON.stringify({ parts, leave })
  )
}

/** Begin with what stands in a clip's recipe. */
export async function beginJoining(clip: Clip): Promise<void> {
  set({ ...partsIn(clip), open: null, pairs: null, over: null, trouble: '', standing: [] })
  const line = lineIn(clip)
  if (!line) return
  const path = { clip_id: clip.id }
  try {
    const [lines, sources] = await Promise.all([
      answer(
        client.GET('/api/clips/{clip_id}/recipe', {
          params: { path, query: { revision: clip.head.id } },
        }),
      ),
      answer(
        client.GET('/api/clips/{clip_id}/sources', {
          params: { path, query: { revision: clip.head.id } },
        }),
      ),
    ])
    const now = useBench.getState().clip
    if (now?.id !== clip.id || JSON.stringify(lineIn(now)) !== JSON.stringify(line)) return
    const seams = lines.find((x) => x.line_id === line.line_id)?.report.seams
    set({
      standing: (seams ?? []) as Seam[],
      sources: new Map(sources.map((source) => [source.state, source])),
    })
  } catch (error) {
    set({ trouble: textOf(error) })
  }
}

export function wish(change: Partial<Pick<Joining, 'parts' | 'leave'>>): void {
  // What is shown of a seam may be another one's now.
  set({ ...change, pairs: null, over: null, open: null })
}

type Change = Partial<Record<keyof Told, unknown>>

/** What is told of a part, with a change; what is undefined is left open. */
function changed(told: Told, change: Change): Told {
  const next = Object.entries({ ...told, ...change }).filter(([, value]) => value !== undefined)
  return Object.fromEntries(next) as unknown as Told
}

/** What is wished as it stands, to be put back where a drag is given up. */
export function keepWish(): () => void {
  const { parts, leave, over } = get()
  return () => set({ parts, leave, over })
}

/** Say something else of a part. */
export function tell(at: number, change: Change): void {
  const told = changed(get().parts[at]!.told, change)
  set({ parts: get().parts.map((p, n) => (n === at ? { ...p, told } : p)) })
}

/** Where a seam is: the frame of what comes before it, and that of the part. */
export function meet(seam: number, { leave, enter }: Pair): void {
  tell(seam, { enter, move: undefined, turn: undefined })
  if (seam === 0) set({ leave })
  else tell(seam - 1, { leave })
  set({ over: { leave, enter } })
}

/** The frames at which a seam is wished to be; null where they are to be found. */
export function wishedPair(seam: number): Pair | null {
  const { parts, leave } = get()
  const left = seam === 0 ? (leave ?? undefined) : parts[seam - 1]?.told.leave
  const enter = parts[seam]?.told.enter
  return left === undefined || enter === undefined ? null : { leave: left, enter }
}

export async function addPart(take: number): Promise<void> {
  set({ trouble: '' })
  try {
    const other = await clipOfTake(take)
    // Another one may have been chosen since.
    wish({ parts: [...get().parts, { state: other.head.state, told: { name: other.name } }] })
  } catch (error) {
    set({ trouble: textOf(error) })
  }
}

/** Another clip in a part's place: what follows keeps its own. */
export async function exchangePart(at: number, take: number): Promise<void> {
  set({ trouble: '' })
  try {
    const other = await clipOfTake(take)
    const afresh = { enter: undefined, leave: undefined, move: undefined, turn: undefined }
    const told = changed(get().parts[at]!.told, { name: other.name, ...afresh })
    const part = { state: other.head.state, told }
    wish({ parts: get().parts.map((p, n) => (n === at ? part : p)) })
  } catch (error) {
    set({ trouble: textOf(error) })
  }
}

/** The part's clip as it is now. */
export function updatePart(at: number, state: string): void {
  wish({ parts: get().parts.map((p, n) => (n === at ? { ...p, state } : p)) })
}

export function movePart(at: number, by: number): void {
  const parts = [...get().parts]
  parts.splice(at + by, 0, ...parts.splice(at, 1))
  wish({ parts })
}

function asked() {
  const { parts, leave } = get()
  return {
    params: { ...(leave === null ? {} : { leave }), parts: parts.map((p) => p.told) },
    inputs: { parts: parts.map((p) => p.state) },
  }
}

export function showJoin(): void {
  const { clip } = useBench.getState()
  if (!clip) return
  set({ over: null })
  const { params, inputs } = asked()
  void startPreview('join', params, { inputs, line: lineIn(clip)?.line_id ?? null })
}

export function applyJoin(): void {
  const { clip } = useBench.getState()
  if (!clip) return
  set({ over: null })
  const line = lineIn(clip)
  const whole = { operation: 'join', scope: {}, ...asked() }
  if (!line) void write({ append: whole }, 'The join')
  else if (!get().parts.length) void write({ remove: line.line_id }, 'The join')
  else void write({ edit: { ...whole, line_id: line.line_id } }, 'The join')
}

/** The seams that are shown: those of a join's preview, or those that stand. */
export function seamsOf(preview: BenchState['preview'], standing: readonly Seam[]) {
  if (preview?.operation !== 'join') return standing
  return (preview.whole?.report.seams ?? []) as unknown as readonly Seam[]
}

let looking = new AbortController()

/** Look at all pairs of frames about a seam; null closes it. */
export async function openSeam(seam: number | null): Promise<void> {
  looking.abort()
  set({ open: seam, pairs: null, over: null, finding: seam !== null, trouble: '' })
  const { clip } = useBench.getState()
  if (seam === null || !clip) return
  cancelPreview()
  looking = new AbortController()
  const body = {
    ...asked(),
    revision: clip.head.id,
    line: lineIn(clip)?.line_id ?? null,
    seam,
  }
  try {
    const got = await numbers(`/api/clips/${clip.id}/preview/seams`, body, looking.signal)
    const { data, shape } = got.arrays.get('mm')!
    const before = { about: { frames: got.about.before }, arrays: new Map(got.arrays) }
    for (const name of ['rotation', 'moving', 'translation'])
      before.arrays.set(name, got.arrays.get(`before_${name}`)!)
    set({
      finding: false,
      pairs: {
        seam,
        mm: data as Float32Array,
        high: shape[0]!,
        wide: shape[1]!,
        best: got.about.best as Best[],
        points: got.about.points as number[],
        part: posesOf(got, clip.joints.length),
        before: posesOf(before, clip.joints.length),
      },
      over: wishedPair(seam),
    })
  } catch (error) {
    if (error instanceof DOMException) return
    set({ finding: false, trouble: textOf(error) })
  }
}

/** The stage follows: both clips at a pair of frames; null shows the chosen one. */
export function lookAtPair(pair: Pair | null): void {
  const { open } = get()
  set({ over: pair ?? (open === null ? null : wishedPair(open)) })
}

/** How the part is laid at a pair of frames: by hand where it is, else as the bodies fit. */
export function laidAt(clip: Clip, pairs: Pairs, { leave, enter }: Pair): Fit {
  const up = 'xyz'.indexOf(clip.reading.up_axis)
  const ends = [pairs.before, pairs.part].map((poses, k) => {
    const world = emptyWorld(clip.joints.length)
    forward(clip.joints, poses, k ? enter : leave, world)
    return world
  })
  const fit = fitOf(ends[0]!, ends[1]!, pairs.points, up)
  const { move, turn } = get().parts[pairs.seam]?.told ?? {}
  const mm = clip.reading.metres_per_unit * 1000
  if (!move) return fit
  return { turn: ((turn ?? 0) * Math.PI) / 180, by: move.map((v) => v / mm) as Triple }
}

/** Lay the part by hand: it is moved over the floor and turned about the up axis. */
export function layPart(clip: Clip, seam: number, { turn, by }: Fit): void {
  const mm = clip.reading.metres_per_unit * 1000
  tell(seam, {
    move: by.map((v) => Math.round(v * mm * 100) / 100),
    turn: Math.round(((turn * 180) / Math.PI) * 1000) / 1000,
    laid_by: undefined,
  })
}
