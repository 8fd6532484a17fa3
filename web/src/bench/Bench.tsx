/** The bench: stage, time strip, joints and curves stay put; the step's panel changes. */
import { Check } from 'lucide-react'
import { useEffect, useState } from 'react'
import { Link, useParams } from 'react-router'
import { setStep } from '../actions/choose'
import { measuredNow } from '../actions/findings'
import { BenchMenu } from '../commands/BenchMenu'
import { CommandList } from '../commands/CommandList'
import { KeyHelp } from '../commands/KeyHelp'
import { useKeys } from '../commands/keys'
import { useSession } from '../session/session'
import { SheetView } from '../sheet/SheetView'
import { StageView } from '../stage/StageView'
import { STEPS } from '../steps/steps'
import { StripView } from '../strip/StripView'
import { keepCompany, toldOf } from '../sync/company'
import { openClip } from '../sync/write'
import { TimingView } from '../timing/TimingView'
import { JointTree } from '../tree/JointTree'
import { Button } from '../ui/controls'
import { useBench } from '../view/bench'
import { FULL, useFullPane } from '../view/fullPane'
import { transport } from '../view/transport'
import { useViewing } from '../view/viewing'
import { BenchHeader } from './BenchHeader'
import { useSplit } from './useSplit'
import { useWindow } from './useWindow'

function StepRail() {
  const state = useBench()
  const known = measuredNow(state)
  return (
    <nav
      aria-label="Steps"
      className="flex w-16 shrink-0 flex-col border-rule-2 border-r bg-sunk py-1.5"
    >
      {STEPS.map(({ name, title, Icon, open, done }) => {
        const on = state.step === name
        const count = open(state)
        const finished = done(state)
        return (
          <button
            type="button"
            key={name}
            aria-current={on ? 'step' : undefined}
            onClick={() => setStep(name)}
            className={`relative flex h-[52px] ${name === 'recipe' ? 'mt-auto' : ''} flex-col items-center justify-center gap-0.5 text-[11px] ${on ? 'bg-raised font-semibold text-ink' : 'text-ink-2 hover:bg-raised/60'}`}
          >
            {on && <span className="absolute inset-y-1.5 left-0 w-[3px] bg-signal" />}
            <Icon size={19} strokeWidth={1.6} aria-hidden />
            {title}
            {finished ? (
              <Check size={11} className="absolute top-1.5 right-1.5 text-ok" aria-label="done" />
            ) : (
              count !== null &&
              count > 0 && (
                <span
                  className={`num absolute top-1 right-1.5 font-semibold text-[10px] ${known ? 'text-bad' : 'text-ink-3'}`}
                >
                  {known ? count : '…'}
                  <span className="sr-only">{known ? ' open findings' : ' measuring'}</span>
                </span>
              )
            )}
          </button>
        )
      })}
    </nav>
  )
}

const few = (names: readonly string[]) =>
  names.slice(0, 3).join(', ') + (names.length > 3 ? ` and ${names.length - 3} more` : '')

/** One side of a conflict: whose work, and what it touches. */
function Side({
  name,
  parts,
  children,
}: {
  name: string
  parts: readonly string[]
  children: string
}) {
  return (
    <section aria-label={name} className="border-rule-2 border-l-2 pl-2">
      <h2 className="text-[12px] text-ink-2">{name}</h2>
      <p className="font-semibold">{children}</p>
      <p className="text-ink-2">{few(parts)}</p>
    </section>
  )
}

/** Somebody else has changed the same meanwhile: theirs stands, and one may put one's own over it. */
function RefusalBar() {
  const refusal = useBench((s) => s.refusal)
  const user = useSession((s) => s.user)
  if (!refusal) return null
  const { told, count, theirs, yours, changes, again } = refusal
  const close = () => useBench.setState({ refusal: null })
  return (
    <div
      role="alertdialog"
      aria-label="Changed elsewhere"
      className="-translate-x-1/2 fixed bottom-12 left-1/2 z-30 flex max-w-[720px] flex-wrap items-end justify-end gap-3 rounded-[4px] border border-rule-2 bg-raised px-3 py-2"
    >
      <div className="flex flex-1 basis-full flex-col gap-2">
        <p>
          <b>{count > 1 ? `${count} changes` : told}</b> {count > 1 ? 'were' : 'was'} not kept:{' '}
          {few(theirs) || 'the clip'} was changed elsewhere meanwhile.
        </p>
        <div className="grid grid-cols-2 gap-3">
          <Side name="Theirs, which stands" parts={theirs}>
            {changes.length > 0 ? toldOf(changes, user) : ''}
          </Side>
          <Side name="Yours, which can be put over it" parts={yours}>
            {count > 1 ? `${count} changes, the last ${told}` : told}
          </Side>
        </div>
      </div>
      <Button className="shrink-0" onClick={close}>
        Keep theirs
      </Button>
      <Button
        kind="primary"
        className="shrink-0"
        onClick={() => {
          close()
          again()
        }}
      >
        Put mine over it
      </Button>
    </div>
  )
}

/** Windows below this width have narrower panes beside the stage and the sheet. */
const NARROW = 1120
/** In lower ones the sheet has more of the height: its tools stand in more rows. */
const LOW = 600

export function Bench() {
  const { clipId } = useParams()
  const trouble = useBench((s) => s.trouble)
  const clip = useBench((s) => s.clip)
  const poses = useBench((s) => s.poses)
  const notice = useBench((s) => s.notice)
  const step = useBench((s) => s.step)
  const { innerWidth: wide, innerHeight: high } = useWindow()
  const [sheetHeight, sheetEdge] = useSplit({
    name: 'sheet',
    label: 'Height of the curve sheet',
    initial: Math.round((high < LOW ? 0.43 : 0.375) * high),
    least: 150,
    most: Math.max(high - 300, 240),
    axis: 'y',
    grows: -1,
  })
  const [treeWidth, treeEdge] = useSplit({
    name: 'tree',
    label: 'Width of the joints',
    initial: wide < NARROW ? 160 : 200,
    least: 140,
    most: Math.max(Math.round(0.3 * wide), 200),
    axis: 'x',
    grows: 1,
  })
  const [panelWidth, panelEdge] = useSplit({
    name: 'panel',
    label: 'Width of the panel',
    initial: wide < NARROW ? 276 : wide > 1900 ? 340 : 300,
    least: 240,
    most: Math.max(Math.round(0.4 * wide), 300),
    axis: 'x',
    grows: -1,
  })
  const full = useFullPane()
  const timing = useViewing((s) => s.timing)
  const [opened, setOpened] = useState('')
  useKeys()

  useEffect(() => {
    if (clipId && clipId !== opened) {
      setOpened(clipId)
      void openClip(Number(clipId))
    }
    return () => transport.pause()
  }, [clipId, opened])

  const shown = clip?.id
  useEffect(() => (shown === undefined ? undefined : keepCompany(shown)), [shown])

  useEffect(() => {
    document.title = clip ? `${clip.name} · Lean Curve` : 'Lean Curve'
  }, [clip])

  if (trouble)
    return (
      <main className="grid h-full place-content-center gap-3 p-8 text-center">
        <p role="alert">{trouble}</p>
        <Link to="/" className="underline">
          Back to the shelf
        </Link>
      </main>
    )
  const Panel = STEPS.find((s) => s.name === step)!.Panel
  return (
    <div className="flex h-full flex-col overflow-hidden">
      <BenchHeader />
      <div className="flex min-h-0 flex-1">
        <StepRail />
        <main className="flex min-w-0 flex-1 flex-col">
          <BenchMenu groups={['Stage', 'Time']}>
            <div
              className={`relative min-h-[max(12.25rem,calc(22vh+2.5rem))] flex-1 ${full === FULL.sheet ? 'hidden' : 'flex'}`}
            >
              <StageView />
              {!poses && (
                <p className="absolute inset-0 grid place-items-center text-ink-3">
                  Loading the motion …
                </p>
              )}
            </div>
          </BenchMenu>
          <StripView />
          {full === FULL.none && <div {...sheetEdge} />}
          <div
            className={`min-h-0 ${full === FULL.stage ? 'hidden' : 'flex'} ${full === FULL.sheet ? 'flex-1' : ''}`}
            style={full === FULL.sheet ? {} : { height: sheetHeight }}
          >
            {!timing && (
              <>
                <div className="flex shrink-0" style={{ width: treeWidth }}>
                  <JointTree />
                </div>
                <div {...treeEdge} />
              </>
            )}
            <BenchMenu groups={['Curve sheet', 'Time', 'Keys']}>
              <div className="flex min-w-0 flex-1">{timing ? <TimingView /> : <SheetView />}</div>
            </BenchMenu>
          </div>
        </main>
        <aside
          aria-label="Step panel"
          className="flex shrink-0 border-rule-2 border-l bg-raised"
          style={{ width: panelWidth }}
        >
          <div {...panelEdge} />
          <div className="flex min-w-0 flex-1 flex-col">{clip && <Panel key={clip.id} />}</div>
        </aside>
      </div>
      <p
        role="status"
        className={`-translate-x-1/2 fixed bottom-4 left-1/2 z-30 max-w-[560px] rounded-[4px] bg-ink px-3 py-1.5 text-raised ${notice ? '' : 'hidden'}`}
      >
        {notice}
      </p>
      <RefusalBar />
      <CommandList />
      <KeyHelp />
    </div>
  )
}
