/** The curve sheet as a pane: tools above, curves below, what is under the cursor said aloud. */
import { Maximize2 } from 'lucide-react'
import { useEffect, useRef, useState } from 'react'
import { setKeys } from '../actions/edits'
import { loadResult } from '../actions/layers'
import { guideShown, loadTake, loadTrace } from '../actions/traces'
import { type ChannelKey, type Curve, readoutUnit, turns } from '../evaluation/curves'
import { Button, Toggle } from '../ui/controls'
import { useBench } from '../view/bench'
import { FULL, toggleFull, useFullPane } from '../view/fullPane'
import { useLayers } from '../view/layerChoice'
import { watchPane } from '../view/pane'
import { showPane } from '../view/panes'
import { shownChannels } from '../view/shown'
import { useViewing } from '../view/viewing'
import { BehindMenu } from './BehindMenu'
import { useBrush } from './brushState'
import { KeyBar, ToolButtons } from './KeyBar'
import { channelName, lengthUnit } from './names'
import { useSpoken } from './nudges'
import { Sheet } from './Sheet'
import { SheetChoice } from './SheetChoice'

/** The one sheet of the bench, for commands. */
export const sheetRef: { current: Sheet | null } = { current: null }

/** What is drawn behind: a chosen trace, and before a preview what stood. */
function useBefore(): ReadonlyMap<ChannelKey, Curve> {
  const curves = useBench((s) => s.curves)
  const preview = useBench((s) => s.preview)
  const traced = useViewing((s) => s.traced)
  if (!preview) return traced
  return new Map([...traced, ...[...curves].filter(([key]) => preview.curves.has(key))])
}

export function SheetView() {
  const base = useRef<HTMLCanvasElement>(null)
  const over = useRef<HTMLCanvasElement>(null)
  const readout = useRef<HTMLParagraphElement>(null)
  const [bands, setBands] = useState(false)
  const full = useFullPane() === FULL.sheet
  const clip = useBench((s) => s.clip)
  const curves = useBench((s) => s.curves)
  const preview = useBench((s) => s.preview)
  const joints = useBench((s) => s.joints)
  const channels = useBench((s) => s.channels)
  const read = useBench((s) => s.readout)
  const pinned = useViewing((s) => s.pinned)
  const hidden = useViewing((s) => s.hidden)
  const trace = useViewing((s) => s.trace)
  const take = useViewing((s) => s.take)
  const guide = useViewing((s) => s.guide)
  const guideCurve = useViewing((s) => s.guideCurve)
  const follows = useViewing((s) => s.follows)
  const step = useViewing((s) => s.step)
  const { chosen, shown: which, result } = useLayers()
  const shaping = useBench((s) => s.step === 'shape')
  const brush = useBrush((s) => s.kind)
  const spoken = useSpoken()
  const before = useBefore()

  useEffect(() => {
    const sheet = new Sheet(base.current!, over.current!)
    sheetRef.current = sheet
    sheet.onReadout = (text) => {
      if (readout.current) readout.current.textContent = text
    }
    sheet.onHover = (hovered) => useViewing.setState({ hovered })
    const stop = watchPane(over.current!, sheet, sheet.draw, () => sheet.invalidate())
    const gone = showPane(sheet)
    void document.fonts.ready.then(() => sheet.invalidate())
    return () => {
      stop()
      gone()
      sheet.dispose()
      sheetRef.current = null
    }
  }, [])

  useEffect(() => {
    if (sheetRef.current) Object.assign(sheetRef.current, { follows, step, take })
  }, [follows, step, take])

  // biome-ignore lint/correctness/useExhaustiveDependencies: asked anew for what is shown
  useEffect(() => {
    void loadTrace()
  }, [trace, joints, channels, pinned, clip?.head.id])

  // biome-ignore lint/correctness/useExhaustiveDependencies: asked anew for what is shown
  useEffect(() => {
    void loadResult()
  }, [chosen, which, joints, clip?.head.id])

  // biome-ignore lint/correctness/useExhaustiveDependencies: asked anew for what is shown
  useEffect(() => {
    if (brush === 'restore') void loadTake()
  }, [brush, joints, channels, pinned, clip?.head.id])

  // biome-ignore lint/correctness/useExhaustiveDependencies: what is shown follows these
  useEffect(() => {
    if (!clip) return
    const unit = lengthUnit(clip.reading.metres_per_unit)
    sheetRef.current?.show({
      clip: clip.id,
      frames: clip.frames,
      channels: shownChannels({ clip, joints, channels, readout: read }),
      curves: preview ? new Map([...curves, ...preview.curves]) : curves,
      before,
      previewed: preview !== null,
      guide: [...guideShown(guide, guideCurve, clip.frames), ...(shaping ? result : [])],
      name: (key) => channelName(key, clip),
      unit: (key) =>
        readoutUnit(key) ?? (turns(key) ? '°' : key.endsWith('/w') ? ' ×' : ` ${unit}`),
    })
  }, [
    clip,
    curves,
    preview,
    joints,
    channels,
    read,
    pinned,
    hidden,
    before,
    guide,
    guideCurve,
    chosen,
    which,
    result,
    shaping,
  ])

  const toggleBands = () => {
    sheetRef.current?.setBands(!bands)
    setBands(!bands)
  }

  return (
    <section
      aria-label="Curve sheet"
      className="relative flex min-h-0 min-w-0 flex-1 flex-col bg-paper"
    >
      <div className="flex min-h-8 shrink-0 flex-wrap items-center gap-1 border-rule border-b bg-raised px-1.5 py-0.5">
        <SheetChoice />
        <span className="h-5 border-rule border-l" />
        <ToolButtons />
        <span className="flex-1" />
        <BehindMenu />
        <Button className="px-1.5" onClick={() => sheetRef.current?.frameAll()}>
          <span>
            <span className="max-[1120px]:hidden">Frame </span>all
          </span>
        </Button>
        <Button className="px-1.5" onClick={() => sheetRef.current?.aroundNow()}>
          <span>
            <span className="max-[1120px]:hidden">Around </span>now
          </span>
        </Button>
        <Toggle on={bands} className="px-1.5" onClick={toggleBands} data-command="bands">
          Bands
        </Toggle>
        <Toggle
          on={full}
          aria-label="Curve sheet alone"
          onClick={() => toggleFull('sheet')}
          className="px-1.5"
        >
          <Maximize2 size={12} />
        </Toggle>
      </div>
      <KeyBar />
      <div className="relative min-h-0 flex-1">
        <canvas ref={base} className="absolute inset-0 size-full" aria-hidden />
        <canvas
          ref={over}
          data-testid="sheet"
          className="absolute inset-0 size-full touch-none"
          onPointerDown={(e) => {
            if (e.button === 1) e.preventDefault()
            sheetRef.current?.down(e.nativeEvent)
          }}
          onPointerMove={(e) => sheetRef.current?.move(e.nativeEvent)}
          onPointerUp={(e) => sheetRef.current?.up(e.nativeEvent)}
          onContextMenu={(e) => sheetRef.current?.menuAsked(e.nativeEvent)}
          onPointerLeave={() => sheetRef.current?.leave()}
          onDoubleClick={(e) => {
            const spot = sheetRef.current?.spotAt(e.nativeEvent)
            if (spot && !brush && !preview) setKeys([spot.channel], spot.frame)
          }}
        />
        <p
          ref={readout}
          data-testid="readout"
          className="num pointer-events-none absolute top-1 left-[66px] rounded-[3px] bg-paper/85 px-1 text-ink"
        />
        {clip &&
          shaping &&
          chosen !== null &&
          joints.length > 0 &&
          !shownChannels({ clip, joints, channels, readout: read }).length && (
            <p className="absolute inset-0 grid place-items-center text-ink-2">
              The layer does nothing to the selected joints yet: turn them on the stage, or by
              number in Shape, Layers.
            </p>
          )}
        {joints.length + channels.length + pinned.length === 0 && (
          <p className="absolute inset-0 grid place-items-center text-ink-2">
            Pick a joint on the stage or in the list to see its curves.
          </p>
        )}
      </div>
      <p role="status" aria-live="polite" data-testid="spoken" className="sr-only">
        {spoken}
      </p>
    </section>
  )
}
