/** The timing sheet as a pane: rows that fold at the left, their keys over time at the right. */
import { ChevronDown, ChevronRight, Maximize2 } from 'lucide-react'
import { type KeyboardEvent, useEffect, useMemo, useRef } from 'react'
import { selectChannels, selectJoints } from '../actions/choose'
import { setOpen, unfoldAll, useFolding } from '../actions/folding'
import { KeyBar } from '../sheet/KeyBar'
import { useSpoken } from '../sheet/nudges'
import { SheetChoice } from '../sheet/SheetChoice'
import { bringCurves } from '../sync/confirmed'
import { Button, Toggle } from '../ui/controls'
import { notify, useBench } from '../view/bench'
import { FULL, toggleFull, useFullPane } from '../view/fullPane'
import { watchPane } from '../view/pane'
import { showPane } from '../view/panes'
import { useViewing } from '../view/viewing'
import { BODY, type Row, rowsOf } from './rows'
import { Timing } from './Timing'

/** The one timing sheet of the bench, for commands. */
export const timingRef: { current: Timing | null } = { current: null }

const NONE: ReadonlySet<string> = new Set()

function useRows(): Row[] {
  const clip = useBench((s) => s.clip)
  const body = useBench((s) => s.body)
  const joints = useBench((s) => s.joints)
  const { open, only } = useFolding()
  return useMemo(
    () => (clip ? rowsOf(clip, body, open, only ? new Set(joints) : null) : []),
    [clip, body, open, only, joints],
  )
}

function RowName({ row }: { row: Row }) {
  const open = useFolding((s) => s.open.has(row.id))
  const chosen = useBench((s) => s.joints)
  const channels = useBench((s) => s.channels)
  const folds = row.kind === 'part' || row.kind === 'joint' || row.kind === 'prop'
  const on =
    row.kind === 'channel'
      ? row.channels.every((key) => channels.includes(key))
      : row.kind === 'prop'
        ? row.channels.every((key) => channels.includes(key))
        : row.kind === 'joint' && chosen.includes(row.joints[0]!)
  const pick = (add: boolean) => {
    if (row.kind === 'channel' || !row.joints.length) selectChannels([...row.channels])
    else selectJoints(add ? [...new Set([...chosen, ...row.joints])] : [...row.joints])
  }
  const onKeyDown = (e: KeyboardEvent<HTMLDivElement>) => {
    if (e.target !== e.currentTarget || e.ctrlKey || e.metaKey) return
    const rows = [...e.currentTarget.parentElement!.querySelectorAll<HTMLElement>('[data-row]')]
    const by = { ArrowDown: 1, ArrowUp: -1 }[e.key]
    if (by) rows[rows.indexOf(e.currentTarget) + by]?.focus()
    else if (e.key === 'ArrowRight' && folds) setOpen(row.id, true)
    else if (e.key === 'ArrowLeft' && folds) setOpen(row.id, false)
    else if (e.key === 'Enter') pick(e.shiftKey)
    else return
    e.preventDefault()
    e.stopPropagation()
  }
  return (
    <div
      role="treeitem"
      aria-level={row.depth + 1}
      aria-selected={on}
      {...(folds ? { 'aria-expanded': open } : {})}
      tabIndex={0}
      data-row={row.id}
      className={`flex h-6 cursor-pointer items-center gap-1 border-rule border-b pr-1.5 hover:bg-sunk ${row.id === BODY ? 'sticky top-6 z-10 bg-raised font-semibold' : ''} ${row.depth === 0 ? 'border-rule-2 font-semibold' : ''} ${on ? 'bg-sunk font-semibold' : ''}`}
      style={{ paddingLeft: 6 + 12 * row.depth }}
      onClick={(e) => pick(e.shiftKey || e.ctrlKey || e.metaKey)}
      onKeyDown={onKeyDown}
    >
      {folds ? (
        <button
          type="button"
          tabIndex={-1}
          aria-label={`${open ? 'Fold' : 'Open'} ${row.label}`}
          className="grid size-6 shrink-0 place-items-center"
          onClick={(e) => {
            e.stopPropagation()
            setOpen(row.id, !open)
          }}
        >
          {open ? <ChevronDown size={12} /> : <ChevronRight size={12} />}
        </button>
      ) : (
        <span className={row.kind === 'channel' ? 'w-3' : 'w-6'} />
      )}
      <span className="truncate first-letter:uppercase">{row.label}</span>
    </div>
  )
}

export function TimingView() {
  const canvas = useRef<HTMLCanvasElement>(null)
  const readout = useRef<HTMLParagraphElement>(null)
  const scroller = useRef<HTMLElement>(null)
  const clip = useBench((s) => s.clip)
  const curves = useBench((s) => s.curves)
  const dense = useBench((s) => s.dense)
  const follows = useViewing((s) => s.follows)
  const only = useFolding((s) => s.only)
  const open = useFolding((s) => s.open.size > 0)
  const full = useFullPane() === FULL.sheet
  const rows = useRows()
  const spoken = useSpoken()

  useEffect(() => {
    bringCurves().catch((trouble: unknown) => notify(String(trouble)))
    const timing = new Timing(canvas.current!)
    timingRef.current = timing
    timing.onReadout = (text) => {
      if (readout.current) readout.current.textContent = text
    }
    const stop = watchPane(canvas.current!, timing, timing.draw, timing.draw)
    const gone = showPane(timing)
    void document.fonts.ready.then(timing.draw)
    return () => {
      stop()
      gone()
      timing.dispose()
      timingRef.current = null
    }
  }, [])

  useEffect(() => {
    if (timingRef.current) timingRef.current.follows = follows
  }, [follows])

  useEffect(() => {
    if (!clip) return
    const { id, frames } = clip
    timingRef.current?.show({ clip: id, frames, rows, curves, dense: dense ?? NONE })
  }, [clip, rows, curves, dense])

  return (
    <section
      aria-label="Timing sheet"
      className="relative flex min-h-0 min-w-0 flex-1 flex-col bg-paper"
    >
      <div className="flex h-8 shrink-0 items-center gap-1.5 border-rule border-b bg-raised px-2">
        <SheetChoice />
        <p ref={readout} data-testid="timing-readout" className="num truncate px-1 text-ink" />
        <span className="flex-1" />
        <Button onClick={() => unfoldAll(!open)}>{open ? 'Fold all' : 'Open all'}</Button>
        <Toggle on={only} onClick={() => useFolding.setState({ only: !only })}>
          Selected joints
        </Toggle>
        <Button onClick={() => timingRef.current?.frameAll()}>Frame all</Button>
        <Button onClick={() => timingRef.current?.aroundNow()}>Around now</Button>
        <Toggle
          on={full}
          aria-label="Timing sheet alone"
          onClick={() => toggleFull('sheet')}
          className="px-1.5"
        >
          <Maximize2 size={12} />
        </Toggle>
      </div>
      <KeyBar timing />
      <section
        ref={scroller}
        aria-label="Rows and keys"
        className="flex min-h-0 flex-1 overflow-y-auto"
        onScroll={(e) => timingRef.current?.setScroll(e.currentTarget.scrollTop)}
      >
        <div role="tree" aria-label="Rows" className="w-[200px] shrink-0 self-start text-[12px]">
          <div className="sticky top-0 z-10 h-6 border-rule-2 border-r border-b bg-raised px-2 text-ink-2">
            {dense === null ? 'Loading keys …' : 'rows'}
          </div>
          <div role="none" className="border-rule border-r bg-raised">
            {rows.map((row) => (
              <RowName key={row.id} row={row} />
            ))}
          </div>
        </div>
        <div className="sticky top-0 h-full min-w-0 flex-1">
          <canvas
            ref={canvas}
            data-testid="timing"
            className="absolute inset-0 size-full touch-none"
            onPointerDown={(e) => {
              if (e.button === 1) e.preventDefault()
              timingRef.current?.down(e.nativeEvent)
            }}
            onPointerMove={(e) => timingRef.current?.move(e.nativeEvent)}
            onPointerUp={(e) => timingRef.current?.up(e.nativeEvent)}
            onContextMenu={(e) => timingRef.current?.menuAsked(e.nativeEvent)}
            onPointerLeave={() => timingRef.current?.leave()}
          />
        </div>
      </section>
      <p role="status" aria-live="polite" data-testid="spoken" className="sr-only">
        {spoken}
      </p>
    </section>
  )
}
