/** What the clip's recipe did to the motion: figures, and the way to where they are largest. */
import type { Schemas } from '../api/client'
import { counted, degrees, millimetres, rounded } from '../ui/numbers'
import { type BenchState, useBench } from '../view/bench'
import { transport } from '../view/transport'
import { selectJoints } from './choose'

export type Account = Schemas['AccountOut']

/** Whether the account is of the motion that stands: busy or right, never old. */
export const accounted = ({ clip, account, accountOf, saving }: BenchState): boolean =>
  clip !== null && account !== null && accountOf === clip.head.id && !saving

export const costText = ({ cost_deg, cost_mm }: Pick<Account, 'cost_deg' | 'cost_mm'>): string =>
  `largest change ${degrees(rounded(cost_deg.size))} · ${millimetres(rounded(cost_mm.size))}`

/** How many places were put right, and by how much at most: "12 fixes, largest 94.00°". */
export const mendedCount = (count: number, most: number): string =>
  count ? `${counted(count, 'fix', 'fixes')}, largest ${degrees(most)}` : 'no fixes'

export function mendedText({ mended }: Pick<Account, 'mended'>): string {
  return mendedCount(mended.length, Math.max(0, ...mended.map((m) => m.deg)))
}

/** The lines of a kind that did something, or should not have. */
export const perLine = (account: Account | null, kind: string): Account['lines'] =>
  (account?.lines ?? []).filter((line) => line.kind === kind && line.deg.size + line.mm.size > 1e-6)

/** To a frame, and the joint that a measure is largest at. */
export function goToPlace(name: string, frame: number): void {
  const joint = useBench.getState().clip?.joints.findIndex((j) => j.name === name) ?? -1
  transport.goTo(frame)
  if (joint >= 0) selectJoints([joint])
}
