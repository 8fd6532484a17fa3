/** The time strip: transport above, range, findings lanes and now below. */
import {
  ChevronLeft,
  ChevronRight,
  ChevronsDown,
  ChevronsUp,
  Hand,
  MoveRight,
  Pause,
  Play,
  Repeat,
  SkipBack,
  SkipForward,
} from 'lucide-react'
import { useEffect, useMemo, useRef, useState, useSyncExternalStore } from 'react'
import { beginJoining, lineIn, seamsOf, useJoining } from '../actions/joining'
import { usePins } from '../actions/pins'
import { offerKey } from '../actions/thinning'
import { prefer, useSession } from '../session/session'
import { useCatalogue } from '../sync/catalogue'
import { Button, inputLook, Popover, Slider, Tip, Toggle } from '../ui/controls'
import { useBench } from '../view/bench'
import { draft } from '../view/draft'
import { watchPane } from '../view/pane'
import { useSelection } from '../view/selection'
import { transport } from '../view/transport'
import { keyFrames } from './keyFrames'
import { barsOf, type PartBar } from './lanes'
import { MarksMenu } from './MarksMenu'
import { Strip } from './Strip'

const SPEEDS = [0.1, 0.25, 0.5, 1, 2, 4]

/** The one strip of the bench, for commands. */
export const stripRef: { current: Strip | null } = { current: null }

const state = () =>
  `${transport.playing} ${transport.loop} ${transport.onward} ${transport.speed} ${transport.range} ${transport.frames}`

/** Re-renders when something but the frame changes: playing re-renders no tree. */
function useTransport() {
  useSyncExternalStore(transport.subscribe, state)
  return transport
}

/** Now as a number to read and to type. */
function FrameField() {
  const input = useRef<HTMLInputElement>(null)
  const code = useRef<HTMLSpanElement>(null)
  useEffect(() => {
    const show = () => {
      if (input.current && document.activeElement !== input.current)
        input.current.value = String(transport.frame)
      if (code.current) code.current.textContent = transport.timecode()
    }
    show()
    return transport.subscribe(show)
  }, [])
  const go = (text: string) => {
    const frame = Number(text)
    if (text.trim() && Number.isFinite(frame)) transport.seek(frame)
  }
  return (
    <>
      <label className="flex items-center gap-1.5 text-ink-2">
        <span className="max-[1000px]:sr-only">frame</span>
        <input
          ref={input}
          data-testid="frame"
          inputMode="numeric"
          defaultValue={0}
          className={`${inputLook} num h-6 w-16 font-semibold`}
          onKeyDown={(e) => {
            if (e.key === 'Enter') {
              go(e.currentTarget.value)
              e.currentTarget.blur()
            }
            if (e.key === 'Escape') {
              e.currentTarget.value = String(transport.frame)
              e.currentTarget.blur()
            }
          }}
          onBlur={(e) => go(e.currentTarget.value)}
        />
      </label>
      <span ref={code} data-testid="timecode" className="num text-ink-2 max-[1120px]:hidden" />
    </>
  )
}

function RangeField({ end, label }: { end: 0 | 1; label: string }) {
  const { range } = useTransport()
  const value = range[end]
  return (
    <input
      key={value}
      aria-label={label}
      defaultValue={value}
      inputMode="numeric"
      className={`${inputLook} num h-6 w-14`}
      onKeyDown={(e) => e.key === 'Enter' && e.currentTarget.blur()}
      onBlur={(e) => {
        const typed = Number(e.currentTarget.value)
        if (!Number.isFinite(typed)) return
        transport.setRange(end === 0 ? typed : range[0], end === 1 ? typed : range[1])
      }}
    />
  )
}

/** The clips of a join where they are played: of its preview, or as it stands and time is not
 * moved after it. */
function useParts(): PartBar[] {
  const clip = useBench((s) => s.clip)
  const preview = useBench((s) => (s.preview?.operation === 'join' ? s.preview : null))
  const standing = useJoining((s) => s.standing)
  const operations = useCatalogue((s) => s.operations)
  const line = clip && lineIn(clip)
  const shown = `${line?.line_id} ${JSON.stringify(line?.params)} ${JSON.stringify(line?.inputs)}`
  // biome-ignore lint/correctness/useExhaustiveDependencies: what stands in the recipe is shown anew
  useEffect(() => {
    if (clip) void beginJoining(clip)
  }, [clip?.id, shown])
  return useMemo(() => {
    if (!clip) return []
    const retimes = new Set(operations.filter((o) => o.retimes).map((o) => o.name))
    const { recipe } = clip.head
    const joined = lineIn(clip)
    const later = joined && recipe.slice(recipe.indexOf(joined) + 1)
    if (!preview && (!later || later.some((line) => retimes.has(line.operation)))) return []
    return barsOf(
      clip.name,
      seamsOf(preview, standing),
      preview?.whole?.poses.frames ?? clip.frames,
    )
  }, [clip, preview, standing, operations])
}

/** All lanes, or one line of findings and one of contacts: a choice that is remembered. */
function toggleLanes(): void {
  const { panes } = useSession.getState().preferences
  prefer({ panes: { ...panes, lanes: panes.lanes === 1 ? 0 : 1 } })
}

/** Lanes beyond these scroll: in a low window the curve sheet keeps its share of the height. */
const LANES = 'max-h-[clamp(60px,calc(50vh-180px),150px)] overflow-y-auto'

export function StripView() {
  const canvas = useRef<HTMLCanvasElement>(null)
  const [free, setFree] = useState(false)
  const [sensitivity, setSensitivity] = useState(0.5)
  const clip = useBench((s) => s.clip)
  const findings = useBench((s) => s.findings)
  const contacts = useBench((s) => s.contacts)
  const contact = useBench((s) => s.contact)
  const plant = useBench((s) => s.plant)
  const drift = useBench((s) => s.moved)
  const [tall, setTall] = useState(64)
  const joints = useBench((s) => s.joints)
  const curves = useBench((s) => s.curves)
  const pinned = usePins((s) => s.pins !== null)
  const unfolded = useSession((s) => s.preferences.panes.lanes === 1)
  const t = useTransport()
  const parts = useParts()

  useEffect(() => {
    const strip = new Strip(canvas.current!)
    stripRef.current = strip
    strip.onHandsFree = setFree
    strip.onDrift = offerKey
    const stop = watchPane(canvas.current!, strip, strip.drawNow, strip.draw)
    const stops = [useSelection, usePins].map((store) => store.subscribe(strip.draw))
    stops.push(draft.subscribe(strip.drawDragged))
    return () => {
      stop()
      for (const end of stops) end()
      strip.dispose()
      stripRef.current = null
    }
  }, [])

  // biome-ignore lint/correctness/useExhaustiveDependencies: the chosen contact or plant is drawn too
  useEffect(() => {
    const strip = stripRef.current
    if (!clip || !strip) return
    // A head that has just moved has no findings yet: the lanes stay until it has.
    if (findings)
      strip.show(
        clip,
        findings,
        contacts?.contacts ?? null,
        keyFrames(clip, joints, curves),
        drift,
        unfolded,
        parts,
      )
    setTall(strip.tall)
  }, [clip, findings, contacts, contact, plant, joints, curves, drift, pinned, unfolded, parts])

  useEffect(() => {
    if (stripRef.current) stripRef.current.sensitivity = sensitivity
  }, [sensitivity])

  return (
    <section
      aria-label="Time strip"
      className="flex shrink-0 flex-col border-rule-2 border-y bg-raised"
    >
      <div className="flex min-h-9 shrink-0 flex-wrap items-center gap-1.5 px-3 py-1">
        <Tip text="To the first frame of the range">
          <Button aria-label="To the start" onClick={() => transport.seek(t.range[0])}>
            <SkipBack size={13} />
          </Button>
        </Tip>
        <Button aria-label="One frame back" onClick={() => transport.step(-1)}>
          <ChevronLeft size={14} />
        </Button>
        <Button
          kind={t.playing ? 'on' : 'plain'}
          className="w-[70px] max-[1120px]:w-auto"
          data-testid="play"
          onClick={() => transport.toggle()}
        >
          {t.playing ? <Pause size={13} /> : <Play size={13} />}
          <span className="max-[1120px]:sr-only">{t.playing ? 'Pause' : 'Play'}</span>
        </Button>
        <Button aria-label="One frame on" onClick={() => transport.step(1)}>
          <ChevronRight size={14} />
        </Button>
        <Tip text="To the last frame of the range">
          <Button aria-label="To the end" onClick={() => transport.seek(t.range[1])}>
            <SkipForward size={13} />
          </Button>
        </Tip>
        <Tip text="Play the range over and over">
          <Toggle
            on={t.loop}
            aria-label="Loop"
            className="px-1.5"
            onClick={() => transport.setLoop(!t.loop)}
          >
            <Repeat size={13} />
          </Toggle>
        </Tip>
        <Tip text="Time follows the pointer without a button held, until you click">
          <Toggle
            on={free}
            data-testid="hands-free"
            aria-label="Hands-free"
            className="px-1.5"
            onClick={(e) => stripRef.current?.handsFree(!free, e.clientX)}
          >
            <Hand size={13} />
          </Toggle>
        </Tip>
        <MarksMenu />
        <span className="mx-1 h-5 border-rule border-l" />
        <FrameField />
        <span className="flex-1" />
        <Tip text={unfolded ? 'One line of findings, one of contacts' : 'A line a kind, and drift'}>
          <Toggle on={unfolded} aria-label="All lanes" className="px-1.5" onClick={toggleLanes}>
            {unfolded ? <ChevronsUp size={13} /> : <ChevronsDown size={13} />}
          </Toggle>
        </Tip>
        <span className="flex items-center gap-1 text-ink-2 max-[900px]:hidden">
          <span className="max-[1120px]:sr-only">range </span>
          <RangeField end={0} label="First frame of the range" /> –
          <RangeField end={1} label="Last frame of the range" />
        </span>
        <Popover name="Speed" trigger={<Button className="num w-12">{t.speed}×</Button>}>
          <div className="flex w-60 flex-col gap-3">
            <fieldset className="flex flex-wrap gap-1" aria-label="Playback rate">
              {SPEEDS.map((s) => (
                <Toggle key={s} on={s === t.speed} onClick={() => transport.setSpeed(s)}>
                  {s}×
                </Toggle>
              ))}
            </fieldset>
            <Tip text="Each round goes on from where the last one ended: loops as they walk on">
              <Toggle
                on={t.onward}
                className="self-start"
                onClick={() => transport.setOnward(!t.onward)}
              >
                <MoveRight size={13} /> Rounds go on
              </Toggle>
            </Tip>
            <Slider
              label="Hands-free sensitivity"
              shown={`${sensitivity.toFixed(2)} frames / px`}
              min={0.05}
              max={5}
              step={0.05}
              value={[sensitivity]}
              onValueChange={([v]) => setSensitivity(v!)}
            />
          </div>
        </Popover>
      </div>
      {/* biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls must be reachable by keys */}
      <section className={LANES} tabIndex={0} aria-label="Lanes">
        <canvas
          ref={canvas}
          data-testid="strip"
          className="block w-full cursor-ew-resize touch-none"
          style={{ height: tall }}
          onPointerDown={(e) => stripRef.current?.down(e.nativeEvent)}
          onPointerMove={(e) => stripRef.current?.move(e.nativeEvent)}
          onPointerUp={() => stripRef.current?.up()}
          onDoubleClick={(e) => stripRef.current?.pinAt(e.nativeEvent)}
        />
      </section>
    </section>
  )
}
