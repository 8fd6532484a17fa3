/** The thin line of a clip's recipe: thinning again changes it, so that errors never add up. */
import type { Clip, Scope } from '../evaluation/model'
import { apply, write } from '../sync/write'
import { notify, useBench } from '../view/bench'

export interface ThinParams {
  measure: 'channel' | 'joint' | 'ends'
  tolerance_deg: number
  tolerance_mm: number
  ends_mm: number
  layout: 'channel' | 'joint' | 'part' | 'pose'
  search?: 'usual' | 'fewest keys'
  most_keys?: number | null
  poses?: number | null
  landmarks: boolean
  extremes?: 'every' | 'large'
  contacts: boolean
  planted: number
  also: number[]
  tighter: { group: string; first: number; last: number; share: number }[]
  paths: { limb: string; first: number; last: number; mm: number }[]
  keep?: Record<string, number[]> | null
}

export const DEFAULTS: ThinParams = {
  measure: 'channel',
  tolerance_deg: 0.25,
  tolerance_mm: 1,
  ends_mm: 5,
  layout: 'channel',
  landmarks: true,
  contacts: true,
  planted: 0.5,
  also: [],
  tighter: [],
  paths: [],
}

/** The last line that thins, if any. */
export const thinLine = (clip: Clip | null) =>
  clip?.head.recipe.findLast((l) => l.operation === 'thin')

/** Thin anew in the place of a line, or as a line of its own. */
export function commitThin(
  params: ThinParams,
  scope: Scope,
  line: string | null,
): Promise<boolean> {
  const made = { operation: 'thin', params: { ...params }, scope }
  return line
    ? write({ edit: { line_id: line, ...made } })
    : apply(made.operation, made.params, scope)
}

/** Where the drift lane is pressed while thinning: a key in every thinned channel there. */
export function offerKey(frame: number): void {
  const { clip, step } = useBench.getState()
  const line = thinLine(clip)
  if (step !== 'thin' || !line) return
  const params = line.params as Partial<ThinParams>
  const also = [...new Set([...(params.also ?? []), frame])].sort((a, b) => a - b)
  void write({
    edit: {
      line_id: line.line_id,
      operation: 'thin',
      params: { ...params, also },
      scope: line.scope,
    },
  }).then((done) => done && notify(`A key at frame ${frame}. Undo takes it back.`))
}
