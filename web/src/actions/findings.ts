/** Findings on the bench: counts, and the way to their place and to their remedy. */
import { create } from 'zustand'
import { awaiting } from '../api/awaited'
import { channelKey } from '../evaluation/curves'
import type { Finding } from '../evaluation/model'
import { kindNamed } from '../sync/catalogue'
import { counted } from '../ui/numbers'
import { type BenchState, type StepName, useBench } from '../view/bench'
import { useOpenCard } from '../view/openCard'
import { aroundNow } from '../view/panes'
import { transport } from '../view/transport'
import { selectChannels, selectJoints, setStep } from './choose'

/** Open findings by kind. */
export function countsOf(findings: readonly Finding[] | null): Record<string, number> {
  const out: Record<string, number> = {}
  for (const f of findings ?? []) if (!f.accepted) out[f.kind] = (out[f.kind] ?? 0) + 1
  return out
}

/** Whether what was measured is of the motion that stands: nothing newer is on its way. */
export const measuredNow = ({ clip, measured, saving }: BenchState): boolean =>
  clip !== null && measured === clip.head.id && !saving

/** How many open findings a step's operations mend. */
export function openFor(findings: readonly Finding[] | null, step: StepName): number | null {
  if (!findings) return null
  return findings.filter(
    (f) => !f.accepted && f.kind !== 'idle' && kindNamed(f.kind)?.step === step,
  ).length
}

/** The finding that was gone to last: marked in the list. */
export const useFinding = create<{ at: Finding | null }>(() => ({ at: null }))

export const sameFinding = (a: Finding | null, b: Finding): boolean =>
  a !== null &&
  a.kind === b.kind &&
  a.joint === b.joint &&
  a.channel === b.channel &&
  a.first === b.first

/** To the next contact, or the next finding with its joint; or the one before. */
export function toNext(what: 'findings' | 'contacts', direction: -1 | 1): void {
  const { findings, contacts } = useBench.getState()
  const now = transport.frame
  if (what === 'contacts') {
    const firsts = [...new Set((contacts?.contacts ?? []).map((c) => c.first))]
    firsts.sort((a, b) => a - b)
    const frame = direction > 0 ? firsts.find((f) => f > now) : firsts.findLast((f) => f < now)
    if (frame === undefined) return
    transport.goTo(frame)
    return
  }
  const open = (findings ?? []).filter((f) => !f.accepted && f.kind !== 'idle')
  open.sort((a, b) => a.first - b.first)
  // Several begin on one frame: from the one that was gone to, each has its turn.
  const { at } = useFinding.getState()
  const from = at?.first === now ? open.findIndex((f) => sameFinding(at, f)) : -1
  const next =
    from >= 0
      ? open[from + direction]
      : direction > 0
        ? open.find((f) => f.first > now)
        : open.findLast((f) => f.first < now)
  if (next) goTo(next)
}

/** To a finding's frame, its joint, its curve. */
export function goTo(finding: Finding): void {
  const { clip } = useBench.getState()
  if (!clip) return
  useFinding.setState({ at: finding })
  const joint = clip.joints.findIndex((j) => j.name === finding.joint)
  transport.goTo(finding.first)
  if (joint >= 0) {
    if (finding.channel) selectChannels([channelKey(joint, finding.channel)])
    else selectJoints([joint])
  }
  // The curves of a joint selected just now have to arrive first.
  const done = awaiting()
  setTimeout(() => {
    aroundNow()
    done()
  }, 150)
}

/** To a finding's place, and to the operation that mends it. */
export function mend(finding: Finding): void {
  const kind = kindNamed(finding.kind)
  goTo(finding)
  if (!kind?.remedy) return
  useOpenCard.setState({ open: kind.remedy, at: finding })
  setStep(kind.step as StepName)
}

/** A size with its unit: "12.4°", "3 frames". */
export function sizeOf(finding: Finding): string {
  const { size, unit } = finding
  if (unit === 'frames') return size < 1 ? `${size.toPrecision(2)} frames` : counted(size, 'frame')
  const text = size >= 100 ? size.toFixed(0) : size.toFixed(size < 1 ? 2 : 1)
  return unit === '°' ? `${text}°` : `${text} ${unit}`
}
