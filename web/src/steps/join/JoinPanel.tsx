/** Join: clips that come after this one, each with how it is played and where it is come to; what is
 * left open is found where it fits best. */
import { ArrowDown, ArrowUp, Grid3x3, RefreshCw, X } from 'lucide-react'
import { useEffect } from 'react'
import { useShallow } from 'zustand/react/shallow'
import {
  addPart,
  applyJoin,
  asItStands,
  exchangePart,
  lineIn,
  meet,
  movePart,
  openSeam,
  type Part,
  type Seam,
  seamsOf,
  showJoin,
  type Told,
  tell,
  updatePart,
  useJoining,
  wish,
} from '../../actions/joining'
import type { Clip } from '../../evaluation/model'
import { mayChange } from '../../session/session'
import { cancelPreview } from '../../sync/previews'
import { Button, Check, NumberInput, Select, Tip, Toggle } from '../../ui/controls'
import { useBench } from '../../view/bench'
import { PreviewNumbers } from '../operation/Outcome'
import { useTakes } from '../operation/SourceClip'
import { Panel, Trouble } from '../Panel'
import { PairsPicture } from './PairsPicture'

const EASINGS = {
  'ease-in-out': 'eased',
  linear: 'evenly',
  'ease-in': 'slowly, then fast',
  'ease-out': 'fast, then slowly',
}

function told({ leave, enter, distance_mm, turned_deg, slide_mm, good, unlike }: Seam): string {
  const fits = good ? '' : '; no good seam: the bodies are far apart there'
  const held = unlike.length ? `; held on one side alone: ${unlike.join(', ')}` : ''
  return (
    `left at ${leave}, entered at ${enter}: ${distance_mm.toFixed(0)} mm apart, turned by ` +
    `${turned_deg.toFixed(1)}°, feet slide ${slide_mm.toFixed(1)} mm${fits}${held}`
  )
}

/** A frame that may be left open. */
function Frame({
  label,
  of,
  value,
  onCommit,
}: {
  label: string
  /** The clip whose frame it is. */
  of: string
  value: number | undefined
  onCommit: (value: number | undefined) => void
}) {
  return (
    <span className="flex items-center gap-1">
      <span className="text-ink-3">{label}</span>
      <NumberInput
        label={`${of} is ${label}`}
        value={value ?? null}
        placeholder="best"
        digits={0}
        className="w-14"
        onCommit={(v) => onCommit(Math.max(0, Math.round(v)))}
      />
      {value !== undefined && (
        <Button
          kind="quiet"
          className="px-0.5"
          aria-label={`Find where ${of} is ${label} again`}
          onClick={() => onCommit(undefined)}
        >
          <X size={12} />
        </Button>
      )}
    </span>
  )
}

/** The best seams, to be chosen, above the picture of all. */
function Look({ at, first, clip }: { at: number; first: string; clip: Clip }) {
  const pairs = useJoining((s) => (s.pairs?.seam === at ? s.pairs : null))
  const finding = useJoining((s) => s.finding)
  const name = useJoining((s) => s.parts[at]?.told.name ?? '')
  if (finding || !pairs) return <p className="text-ink-2">Comparing all pairs of frames …</p>
  return (
    <div className="flex flex-col gap-1.5">
      <PairsPicture pairs={pairs} first={first} part={name} />
      {pairs.best.every((best) => !best.good) && (
        <p className="text-warn">No good seam: the bodies are far apart on all pairs of frames.</p>
      )}
      <ol className="flex flex-col gap-1" aria-label="Best seams">
        {pairs.best.map((best, k) => (
          <li key={`${best.leave} ${best.enter}`} className="flex items-center gap-1.5">
            <span className="num w-4 text-ink-3">{k + 1}</span>
            <Button className="num" onClick={() => meet(at, best)}>
              {best.leave} to {best.enter}
            </Button>
            <span className={`num ${best.good ? 'text-ink-2' : 'text-warn'}`}>
              {best.distance_mm.toFixed(0)} mm, {Math.round(best.turned_deg) || 0}°
            </span>
          </li>
        ))}
      </ol>
      <p className="text-ink-3">
        On the stage drag the lighter figure to lay it, with Shift to turn it.
      </p>
      <Laid at={at} clip={clip} />
    </div>
  )
}

/** Where a part is laid: as the bodies fit, by a joint, or by hand in numbers. */
function Laid({ at, clip }: { at: number; clip: Clip }) {
  const { move, turn = 0, laid_by } = useJoining((s) => s.parts[at]?.told) ?? {}
  const up = 'xyz'.indexOf(clip.reading.up_axis)
  const roles = useBench((s) => s.body?.joints) ?? []
  const feet = roles.filter((r) => /^(left|right) (foot|toe|hand)$|^hips$/.test(r.role ?? ''))
  const names = Object.fromEntries(
    feet.map((r) => [clip.joints[roles.indexOf(r)]?.name ?? '', `by the ${r.role}`]),
  )
  return (
    <div className="flex flex-wrap items-center gap-x-2 gap-y-1">
      <Select
        label="Laid by"
        className="w-40"
        value={move ? 'hand' : (laid_by ?? '')}
        options={{
          '': 'laid as the bodies fit',
          ...names,
          ...(move ? { hand: 'laid by hand' } : {}),
        }}
        onChange={(by) => tell(at, { laid_by: by || undefined, move: undefined, turn: undefined })}
      />
      {move && (
        <span className="flex items-center gap-1 text-ink-3">
          {move.map((value, axis) =>
            axis === up ? null : (
              <NumberInput
                // biome-ignore lint/suspicious/noArrayIndexKey: an axis each
                key={axis}
                label={`Moved along ${'XYZ'[axis]}, cm`}
                className="w-16"
                digits={1}
                value={value / 10}
                onCommit={(cm) => {
                  const next = move.map((v, k) => (k === axis ? 10 * cm : v))
                  tell(at, { move: next })
                }}
              />
            ),
          )}
          cm
          <NumberInput
            label="Turned, degrees"
            className="w-14"
            digits={1}
            value={turn}
            onCommit={(degrees) => tell(at, { turn: degrees })}
          />
          °
        </span>
      )}
    </div>
  )
}

function PartRow({
  part: { told, state },
  at,
  clip,
  first,
  others,
}: {
  part: Part
  at: number
  clip: Clip
  /** What comes before it. */
  first: string
  others: Record<string, string>
}) {
  const count = useJoining((s) => s.parts.length)
  const open = useJoining((s) => s.open === at)
  const parts = useJoining((s) => s.parts)
  const source = useJoining((s) => s.sources.get(state))
  const leave = useJoining((s) => (at === 0 ? s.leave : s.parts[at - 1]?.told.leave))
  const set = (change: Partial<Record<keyof Told, unknown>>) => tell(at, change)
  const setLeave = (frame: number | undefined) =>
    at === 0 ? useJoining.setState({ leave: frame ?? null }) : tell(at - 1, { leave: frame })
  /** How it is played is another way to come: what was found of its seam holds no longer. */
  const play = (change: Partial<Record<keyof Told, unknown>>) => {
    set(change)
    wish({})
  }
  return (
    <li className="flex flex-col gap-1 border-rule border-t pt-1.5" aria-label={told.name}>
      <span className="flex items-center gap-1">
        <span className="num w-5 text-ink-3">{at + 2}.</span>
        <span className="flex-1 truncate font-semibold" title={told.name}>
          {told.name}
        </span>
        <Button
          kind="quiet"
          className="px-1"
          disabled={at === 0}
          aria-label={`Sooner: ${told.name}`}
          onClick={() => movePart(at, -1)}
        >
          <ArrowUp size={13} />
        </Button>
        <Button
          kind="quiet"
          className="px-1"
          disabled={at === count - 1}
          aria-label={`Later: ${told.name}`}
          onClick={() => movePart(at, 1)}
        >
          <ArrowDown size={13} />
        </Button>
        <Button
          kind="quiet"
          className="px-1"
          aria-label={`Take out ${told.name}`}
          onClick={() => wish({ parts: parts.filter((_, n) => n !== at) })}
        >
          <X size={13} />
        </Button>
      </span>
      {source && source.newest !== state && (
        <span className="flex items-center gap-1.5 text-warn">
          {source.name} has changed since.
          <Button aria-label={`Update ${told.name}`} onClick={() => updatePart(at, source.newest)}>
            <RefreshCw size={12} /> Update
          </Button>
        </span>
      )}
      <span className="flex flex-wrap items-center gap-x-3 gap-y-1">
        <Frame label="left at" of={first} value={leave ?? undefined} onCommit={setLeave} />
        <Frame
          label="entered at"
          of={told.name}
          value={told.enter}
          onCommit={(enter) => set({ enter })}
        />
        <Tip text="All pairs of frames, and the seams that fit best">
          <Toggle
            on={open}
            aria-label={`Seams to ${told.name}`}
            className="px-1.5"
            onClick={() => void openSeam(open ? null : at)}
          >
            <Grid3x3 size={13} /> Seams
          </Toggle>
        </Tip>
      </span>
      {open && <Look at={at} first={first} clip={clip} />}
      <span className="flex flex-wrap items-center gap-x-3 gap-y-1">
        <span className="flex items-center gap-1">
          <span className="text-ink-3">speed</span>
          <NumberInput
            label={`Speed of ${told.name}`}
            value={told.speed ?? 1}
            className="w-14"
            onCommit={(v) => play({ speed: v === 1 ? undefined : Math.min(Math.max(v, 0.1), 10) })}
          />
          <span className="text-ink-3">×</span>
        </span>
      </span>
      <span className="flex flex-wrap items-center gap-x-3 gap-y-1">
        <Check on={told.reversed ?? false} onChange={(v) => play({ reversed: v || undefined })}>
          backwards
        </Check>
        <Check on={told.mirrored ?? false} onChange={(v) => play({ mirrored: v || undefined })}>
          mirrored
        </Check>
        <span className="flex items-center gap-1 text-ink-3">
          blended
          <NumberInput
            label={`Frames before the seam to ${told.name}`}
            value={told.before ?? null}
            placeholder="0.3 s"
            digits={0}
            className="w-14"
            onCommit={(v) => set({ before: Math.max(0, Math.round(v)) })}
          />
          before,
          <NumberInput
            label={`Frames after the seam to ${told.name}`}
            value={told.past ?? null}
            placeholder="0.3 s"
            digits={0}
            className="w-14"
            onCommit={(v) => set({ past: Math.max(0, Math.round(v)) })}
          />
          after
        </span>
      </span>
      <span className="flex flex-wrap items-center gap-x-2 gap-y-1 text-ink-3">
        comes in
        <Select
          label={`Comes in to ${told.name}`}
          className="w-36"
          value={told.ease_before ?? 'ease-in-out'}
          options={EASINGS}
          onChange={(ease) => set({ ease_before: ease, ease_past: ease })}
        />
        <span className="flex items-center gap-1">
          arms
          <NumberInput
            label={`Arms of ${told.name} come in later, frames`}
            value={told.arms_later ?? 0}
            digits={0}
            className="w-12"
            onCommit={(v) => set({ arms_later: Math.round(v) || undefined })}
          />
          head
          <NumberInput
            label={`Head of ${told.name} comes in later, frames`}
            value={told.head_later ?? 0}
            digits={0}
            className="w-12"
            onCommit={(v) => set({ head_later: Math.round(v) || undefined })}
          />
          frames later
        </span>
        <Tip text="For long blends: steps that meet fall together, and both clips change their pace for it">
          <span>
            <Check
              on={told.match_steps ?? false}
              onChange={(v) => set({ match_steps: v || undefined })}
            >
              steps together
            </Check>
          </span>
        </Tip>
        <Select
          label={`Exchange ${told.name}`}
          className="w-32"
          value=""
          options={{ '': 'exchange …', ...others }}
          onChange={(id) => id && void exchangePart(at, Number(id))}
        />
      </span>
    </li>
  )
}

export function JoinPanel() {
  const clip = useBench((s) => s.clip)
  // Not what the pointer is over: the panel is not made anew with each of its moves.
  const joining = useJoining(
    useShallow(({ parts, leave, trouble, standing }) => ({ parts, leave, trouble, standing })),
  )
  const bench = useBench()
  const takes = useTakes(clip?.workspace ?? 0)
  const line = clip && lineIn(clip)
  useEffect(() => () => void openSeam(null), [])
  if (!clip) return null
  const { parts, trouble } = joining
  const found = takes.data?.filter((t) => t.frames > 1) ?? []
  const others = Object.fromEntries(found.map((t) => [String(t.id), t.name]))
  const preview = bench.preview?.operation === 'join' ? bench.preview : null
  const same = asItStands(clip, joining)
  const seams = same || preview ? seamsOf(preview, joining.standing) : []
  const may = mayChange(clip.workspace)
  return (
    <Panel
      title="Join"
      lead="Clips after this one: each is laid where it fits the one before it, and blended in; feet are held through it."
      actions={
        may &&
        (parts.length > 0 || line) && (
          <>
            {preview ? (
              <Button onClick={cancelPreview}>Discard</Button>
            ) : (
              <Button disabled={!parts.length} onClick={showJoin}>
                Preview
              </Button>
            )}
            <Button kind="primary" disabled={bench.saving || same} onClick={applyJoin}>
              {line ? 'Change the join' : 'Join them'}
            </Button>
          </>
        )
      }
    >
      <p>
        <span className="num text-ink-3">1.</span> <b>{clip.name}</b>
      </p>
      {parts.length > 0 && (
        <ol className="flex flex-col gap-1.5" aria-label="Clips that follow">
          {parts.map((part, k) => (
            <PartRow
              // biome-ignore lint/suspicious/noArrayIndexKey: a clip may follow more than once
              key={`${k} ${part.state}`}
              part={part}
              at={k}
              clip={clip}
              first={k === 0 ? clip.name : parts[k - 1]!.told.name}
              others={others}
            />
          ))}
        </ol>
      )}
      {may && (
        <Select
          label="Clip to join"
          className="w-full"
          value=""
          options={{
            '': found.length ? 'add a clip …' : 'no other clip is on the shelf',
            ...others,
          }}
          onChange={(id) => id && void addPart(Number(id))}
        />
      )}
      {trouble && <Trouble>{trouble}</Trouble>}
      {bench.previewTrouble && parts.length > 0 && <Trouble>{bench.previewTrouble}</Trouble>}
      {bench.previewing && <p role="status">Joining them …</p>}
      {seams.map((seam) => (
        <p key={`${seam.name} ${seam.leave}`} className={seam.good ? '' : 'text-warn'}>
          <b>{seam.name}</b>: {told(seam)}.
        </p>
      ))}
      {preview && <PreviewNumbers preview={preview} />}
    </Panel>
  )
}
