/** The sheet's tools, and below them what they work on: the brush in hand, or the selected keys. */
import { Brush, ChevronsRight, Eraser, Link2, MousePointer2, Waves } from 'lucide-react'
import { commitEdits, commitSlide, deleteSelected, editSelected, STILL } from '../actions/edits'
import type { BrushKind } from '../evaluation/brush'
import { HANDLES, type HandleName, SEGMENTS, type SegmentName } from '../evaluation/curves'
import { ActiveLayer, ShownCurves } from '../layers/ActiveLayer'
import { Button, NumberInput, Select, Tip, Toggle } from '../ui/controls'
import { useBench } from '../view/bench'
import { FULL, useFullPane } from '../view/fullPane'
import { common, countKeys, useSelection } from '../view/selection'
import { shownChannels } from '../view/shown'
import { transport } from '../view/transport'
import { useViewing } from '../view/viewing'
import { setRadius, setStrength, takeBrush, useBrush } from './brushState'

const HANDLE_NAMES = Object.fromEntries(HANDLES.map((h) => [h, h])) as Record<HandleName, string>
const SEGMENT_NAMES = Object.fromEntries(SEGMENTS.map((s) => [s, `then ${s}`])) as Record<
  SegmentName,
  string
>

const BRUSHES: readonly [BrushKind, string, typeof Brush, string][] = [
  ['pull', 'Drag', Brush, 'Drag values or time, falling off to the sides'],
  ['calm', 'Soften', Waves, 'Smooth the curve where the brush goes; ends stay'],
  ['restore', 'Restore', Eraser, 'Bring back the take where the brush goes'],
]

export function ToolButtons() {
  const kind = useBrush((s) => s.kind)
  return (
    <fieldset className="flex gap-1" aria-label="Tools of the sheet">
      <Tip text="Select and move keys and handles">
        <Toggle
          on={kind === null}
          aria-label="Keys"
          className="px-1.5"
          onClick={() => takeBrush(null)}
        >
          <MousePointer2 size={12} />
        </Toggle>
      </Tip>
      {BRUSHES.map(([name, title, Icon, text]) => (
        <Tip key={name} text={text}>
          <Toggle on={kind === name} className="px-1.5" onClick={() => takeBrush(name)}>
            <Icon size={12} className="max-[1120px]:block min-[1121px]:max-[1360px]:hidden" />
            <span className="max-[1120px]:sr-only">{title}</span>
          </Toggle>
        </Tip>
      ))}
    </fieldset>
  )
}

/** On the timing sheet there is no brush and no value: keys and when they stand. */
export function KeyBar({ timing = false }: { timing?: boolean }) {
  const brush = useBrush((s) => s.kind)
  const kind = timing ? null : brush
  const keys = useSelection((s) => s.keys)
  const alone = useFullPane() === FULL.sheet
  return (
    <section
      aria-label={kind ? 'Brush' : 'Selected keys'}
      className="flex min-h-8 shrink-0 flex-wrap items-center gap-x-1.5 gap-y-1 border-rule border-b bg-raised px-2 py-0.5 text-ink-2 max-[900px]:flex-nowrap max-[900px]:overflow-x-auto"
    >
      {kind ? (
        <BrushFields />
      ) : countKeys(keys) ? (
        <KeyFields timing={timing} />
      ) : timing ? (
        <TimingHint />
      ) : (
        <Hint />
      )}
      <span className="ml-auto flex gap-1.5">
        {alone && <ActiveLayer />}
        {!timing && <ShownCurves />}
      </span>
    </section>
  )
}

function Hint() {
  const curves = useBench((s) => s.curves)
  useBench((s) => s.channels)
  useBench((s) => s.joints)
  const shown = shownChannels(useBench.getState())
  const dense = shown.some((key) => curves.get(key)?.kind === 'sampled')
  return (
    <p className="truncate">
      {dense
        ? 'A value on every frame: Drag, Soften and Restore work here; thin first to edit keys.'
        : 'Drag a box over keys, or press one. Double-press a curve to set a key on it.'}
    </p>
  )
}

function TimingHint() {
  return (
    <p className="truncate">
      Press a key or drag a box over rows. Drag keys to move them, with Ctrl copies of them; a row
      moves all that is below it.
    </p>
  )
}

function BrushFields() {
  const { kind, radius, strength, axis } = useBrush()
  const count = countKeys(useSelection((s) => s.keys))
  return (
    <>
      <label className="flex items-center gap-1.5">
        radius
        <NumberInput label="Brush radius, frames" value={radius} onCommit={setRadius} />
        frames
      </label>
      <label className="flex items-center gap-1.5">
        strength
        <NumberInput
          label="Brush strength, percent"
          value={100 * strength}
          onCommit={(v) => setStrength(v / 100)}
          className="w-12"
        />
        %
      </label>
      {kind === 'pull' && (
        <Select
          label="What the brush drags"
          value={axis}
          options={{ value: 'value', time: 'time', both: 'value and time' }}
          onChange={(pulled) => useBrush.setState({ axis: pulled })}
        />
      )}
      <span className="ml-auto truncate text-ink-3">
        Ctrl-drag sizes it ·{' '}
        {count ? `on ${count} selected ${count === 1 ? 'key' : 'keys'} only` : 'on shown channels'}
      </span>
    </>
  )
}

/** Set a handle kind on all selected keys. */
export function setHandle(handle: HandleName): void {
  void commitEdits(editSelected(() => ({ handle })))
}

export function setSegment(segment: SegmentName): void {
  void commitEdits(editSelected(() => ({ segment })))
}

/** A factor by which the selected keys come to stand as far from now. */
function ScaleField() {
  return (
    <label className="flex items-center gap-1.5">
      scale
      <NumberInput
        label="Scale in time about now"
        value={1}
        className="w-12"
        onCommit={(factor) => {
          if (factor > 0) commitSlide({ ...STILL, factor, about: transport.frame })
        }}
      />
    </label>
  )
}

function KeyFields({ timing }: { timing: boolean }) {
  const keys = useSelection((s) => s.keys)
  const curves = useBench((s) => s.curves)
  const all = common(curves, keys)
  const passes = useViewing((s) => s.passes)
  const past = passes ? { past: true } : {}
  const commit = (what: Parameters<typeof editSelected>[0]) => void commitEdits(editSelected(what))
  return (
    <>
      <b className="num shrink-0 text-ink" data-testid="key-count">
        {all.count} {all.count === 1 ? 'key' : 'keys'}
      </b>
      <label className="flex items-center gap-1.5">
        frame
        <NumberInput
          label="Frame of the selected keys"
          value={all.time}
          placeholder="several"
          className="w-[68px]"
          onCommit={(time) => {
            // On the timing sheet keys keep their distances: the first one goes there.
            if (timing) commitSlide({ ...STILL, by: Math.max(time, 0) - all.first })
            else commit(() => ({ time: Math.max(time, 0), ...past }))
          }}
          onAdd={(by) => {
            if (timing) commitSlide({ ...STILL, by })
            else commit((curve, k) => ({ time: Math.max(curve.time[k]! + by, 0), ...past }))
          }}
        />
      </label>
      {timing ? (
        <ScaleField />
      ) : (
        <label className="flex items-center gap-1.5">
          value
          <NumberInput
            label="Value of the selected keys"
            value={all.value}
            digits={4}
            placeholder="several"
            onCommit={(value) => commit(() => ({ value }))}
            onAdd={(by) => commit((curve, k) => ({ value: curve.value[k]! + by }))}
            className="w-[68px]"
          />
        </label>
      )}
      <Select
        label="Handles of the selected keys"
        value={all.handle === null ? '' : HANDLES[all.handle]!}
        options={HANDLE_NAMES}
        onChange={setHandle}
      />
      <Select
        label="What follows the selected keys"
        value={all.segment === null ? '' : SEGMENTS[all.segment]!}
        options={SEGMENT_NAMES}
        onChange={setSegment}
      />
      {(all.segment === 3 || all.segment === 4) && (
        <>
          <NumberInput
            label={all.segment === 3 ? 'How often it swings past' : 'How often it rebounds'}
            value={all.swings}
            className="w-10"
            onCommit={(v) => commit(() => ({ swings: Math.min(Math.max(Math.round(v), 1), 20) }))}
          />
          <NumberInput
            label="Decay"
            value={all.decay}
            className="w-12"
            onCommit={(v) => commit(() => ({ decay: Math.min(Math.max(v, 0.05), 50) }))}
          />
        </>
      )}
      <Toggle
        on={all.riding}
        className="px-1.5"
        aria-label="Keep relative timing"
        title="Keep relative timing: the key stays at the same share of the time between its neighbours"
        onClick={() => commit(() => ({ riding: !all.riding }))}
      >
        <Link2 size={13} aria-hidden />
      </Toggle>
      <Toggle
        on={all.muted}
        className="px-1.5"
        title="The curve goes on as if a muted key were not there"
        onClick={() => commit(() => ({ muted: !all.muted }))}
      >
        Mute
      </Toggle>
      {!timing && (
        <Toggle
          on={passes}
          className="px-1.5"
          aria-label="Move past neighbours"
          title="Move past neighbours, instead of stopping at them"
          onClick={() => useViewing.setState({ passes: !passes })}
        >
          <ChevronsRight size={13} aria-hidden />
        </Toggle>
      )}
      {all.broken && !timing && (
        <Button
          onClick={() =>
            commit((curve, k) => {
              const slope = (curve.slope_in[k]! + curve.slope_out[k]!) / 2
              return { broken: false, slope_in: slope, slope_out: slope }
            })
          }
        >
          Join
        </Button>
      )}
      <Button className="ml-auto px-1.5" onClick={deleteSelected}>
        Delete
      </Button>
    </>
  )
}
