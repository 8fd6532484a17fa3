/** A take on the shelf: its motion in small, its figures, what stands out. */
import { Scissors, Trash2, TriangleAlert } from 'lucide-react'
import type { Schemas } from '../api/client'
import { Button, Tip } from '../ui/controls'
import { counted, grouped, rateOf, seconds } from '../ui/numbers'
import { Picture } from '../ui/Picture'
import { CARRIED } from '../view/carried'

/** Kinds whose plural is not theirs with an s. */
const PLURAL: Record<string, string> = {
  gimbal: 'gimbal',
  jitter: 'jitter',
  'key off the frame': 'keys off the frame',
  idle: 'idle channels',
}

/** A skeleton by its name and how many joints it has; one without a name is named by these. */
export const skeletonText = ({ skeleton, joints }: { skeleton: string; joints: number }) =>
  skeleton.endsWith(counted(joints, 'joint'))
    ? skeleton
    : `${skeleton} · ${counted(joints, 'joint')}`

/** The kinds found most, in words; idle channels only where there is nothing else. */
export function findingsText(counts: Record<string, number>, most = 4): string {
  const listed = Object.entries(counts).sort((a, b) => b[1] - a[1])
  const others = listed.filter(([kind]) => kind !== 'idle')
  if (!others.length) return 'nothing stands out'
  const said = others
    .slice(0, most)
    .map(([kind, n]) => `${n} ${n === 1 ? kind : (PLURAL[kind] ?? `${kind}s`)}`)
  const more = others.slice(most).reduce((sum, [, n]) => sum + n, 0)
  return said.join(', ') + (more ? ` and ${more} more` : '')
}

/** How long something is: "15.0 s · 900 frames at 60 / s". */
const lengthText = ({ frames, rate }: { frames: number; rate: number[] }): string =>
  `${seconds((frames - 1) / (rate[0]! / rate[1]!))} · ${grouped(frames)} frames at ${rateOf(rate)} / s`

export function TakeCard({
  take,
  picked,
  onPick,
  onOpen,
  onTrim,
  onDelete,
}: {
  take: Schemas['TakeOut']
  picked: boolean
  onPick: (on: boolean) => void
  onOpen: () => void
  /** Its ends cut off; null where nothing can be. */
  onTrim: (() => void) | null
  /** Into the bin; null for whoever changes nothing here. */
  onDelete: (() => void) | null
}) {
  const left = take.left ?? take.findings
  const found = Object.keys(left).some((kind) => kind !== 'idle')
  return (
    <li
      draggable
      onDragStart={(e) => e.dataTransfer.setData(CARRIED, String(take.id))}
      className={`relative flex flex-col overflow-hidden rounded-md border bg-raised ${picked ? 'border-calm' : 'border-rule-2'}`}
    >
      <label className="absolute top-1 left-1 grid size-7 cursor-pointer place-items-center">
        <input
          type="checkbox"
          className="size-4 accent-[var(--calm)]"
          aria-label={`Choose ${take.name}`}
          checked={picked}
          onChange={(e) => onPick(e.target.checked)}
        />
      </label>
      <Picture picture={take.picture} className="h-[124px] border-rule border-b" />
      <div className="flex flex-1 flex-col gap-1.5 p-3">
        <h2 className="truncate font-semibold text-[14px]" title={take.file_name}>
          {take.name}
        </h2>
        {take.source && (
          <p className="text-ink-2">
            ↳ from {take.source.name}
            {take.source.behind && (
              <span className="text-warn"> · the source has changed since</span>
            )}
          </p>
        )}
        <p className="num text-ink-2">
          {take.frames > 1 ? lengthText(take) : 'a skeleton at rest, to retarget takes onto'}
        </p>
        <p className="num text-ink-2">
          {take.retargeted_onto
            ? `retargeted onto ${take.retargeted_onto}`
            : `${skeletonText(take)} · ${counted(take.keys, 'key')}`}
        </p>
        {take.triangles > 0 && (
          <p className="num text-ink-2">body, {counted(take.triangles, 'triangle')}</p>
        )}
        {take.now && (
          <p className="num">
            now: {lengthText(take.now) !== lengthText(take) && `${lengthText(take.now)} · `}
            {counted(take.now.keys, 'key')} · revision {take.now.revision}
          </p>
        )}
        {take.warnings.map((w) => (
          <p key={w} className="flex gap-1.5 text-warn">
            <TriangleAlert size={14} className="mt-0.5 shrink-0" aria-hidden /> {w}
          </p>
        ))}
        <div className="mt-auto flex items-center justify-between gap-3 pt-1">
          <span className={found ? 'text-bad' : 'text-ok'}>
            {findingsText(left)}
            {take.left && !take.retargeted_onto && (
              <span className="block text-ink-3">
                as captured: {findingsText(take.findings, 2)}
              </span>
            )}
          </span>
          <span className="flex-1" />
          {onTrim && (
            <Tip text="Cut off what comes before and after, without opening it">
              <Button kind="quiet" aria-label={`Trim ${take.name}`} onClick={onTrim}>
                <Scissors size={14} aria-hidden />
              </Button>
            </Tip>
          )}
          {onDelete && (
            <Tip text="Into the bin, with its clips: it can be put back for 30 days.">
              <Button kind="quiet" aria-label={`Delete ${take.name}`} onClick={onDelete}>
                <Trash2 size={14} aria-hidden />
              </Button>
            </Tip>
          )}
          <Button onClick={onOpen} aria-label={`${take.clip ? 'Go on' : 'Open'}: ${take.name}`}>
            {take.clip ? 'Go on' : 'Open'}
          </Button>
        </div>
      </div>
    </li>
  )
}
