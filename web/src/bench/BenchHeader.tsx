/** The bench's top line: where one is, what is saved, undo and redo, drift, commands. */
import { History, Redo2, Undo2, Users } from 'lucide-react'
import { Link } from 'react-router'
import { useBusy } from '../api/patience'
import { useSession } from '../session/session'
import { redo, undo } from '../sync/write'
import { Button, Popover, Tip } from '../ui/controls'
import { useBench } from '../view/bench'
import { useOverlay } from '../view/overlay'
import { AccountFigure } from './AccountFigure'
import { HistoryList } from './HistoryList'

export function BenchHeader() {
  const clip = useBench((s) => s.clip)
  const saving = useBench((s) => s.saving)
  const pending = useBench((s) => s.pending)
  const away = useBench((s) => s.away)
  const redoes = useBench((s) => s.redoes)
  const busy = useBusy((s) => s.waiting > 0)
  const others = useBench((s) => s.others)
  const mine = useSession((s) => s.workspaces.find((w) => w.id === clip?.workspace))
  const workspace = mine?.name
  const looksOn = mine?.role === 'viewer'
  return (
    <header className="flex h-10 shrink-0 items-center gap-2.5 border-rule-2 border-b bg-raised px-3.5">
      <span className="whitespace-nowrap font-semibold max-[900px]:hidden">Lean Curve</span>
      <Link to="/" className="text-ink-2 hover:underline">
        Shelf
      </Link>
      <span className="text-ink-3">›</span>
      <span className="truncate text-ink-2 max-[1100px]:hidden">{workspace}</span>
      <span className="text-ink-3 max-[1100px]:hidden">›</span>
      <h1 className="min-w-24 truncate font-semibold" title={clip?.name}>
        {clip?.name ?? '…'}
      </h1>
      {others.length > 0 && (
        <Tip text={`On this clip now: ${others.join(', ')}. What they change is followed.`}>
          <span
            className="flex items-center gap-1 whitespace-nowrap text-ink-2"
            data-testid="company"
          >
            <Users size={13} aria-hidden />
            with {others[0]}
            {others.length > 1 && ` and ${others.length - 1} more`}
          </span>
        </Tip>
      )}
      {looksOn && (
        <Tip text="You are a viewer in this workspace: you can see, play and download.">
          <span className="whitespace-nowrap rounded-[3px] border border-rule-2 px-1.5 text-ink-2">
            viewing
          </span>
        </Tip>
      )}
      <span className="flex-1" />
      {busy && (
        <span role="status" className="whitespace-nowrap text-warn">
          busy, trying again
        </span>
      )}
      {away && pending > 0 ? (
        <Tip text={`${away} Nothing is lost while this page stays open: it is tried again.`}>
          <span role="status" className="whitespace-nowrap text-bad" data-testid="saved">
            {pending} {pending === 1 ? 'change waits' : 'changes wait'} for the server
          </span>
        </Tip>
      ) : (
        <span className="text-ink-2" data-testid="saved">
          {saving ? 'saving …' : 'saved'}
        </span>
      )}
      <Popover
        name="History"
        still
        trigger={
          <Button aria-label={`History, revision ${clip?.head.number ?? '–'}`}>
            <History size={13} />
            <span className="num">
              <span className="max-[1000px]:hidden">revision </span>
              {clip?.head.number ?? '–'}
            </span>
          </Button>
        }
      >
        <HistoryList />
      </Popover>
      <Tip text={clip?.can_undo ? `Undo: ${clip.head.cause}` : 'Nothing to undo'}>
        <Button disabled={!clip?.can_undo && !pending} onClick={() => void undo()}>
          <Undo2 size={13} /> <span className="max-[1000px]:sr-only">Undo</span>
        </Button>
      </Tip>
      <Button disabled={!clip?.can_redo && !redoes} onClick={() => void redo()}>
        <Redo2 size={13} /> <span className="max-[1000px]:sr-only">Redo</span>
      </Button>
      <AccountFigure />
      <Button onClick={() => useOverlay.setState({ shown: 'commands' })}>Commands</Button>
      <Button aria-label="Keyboard" onClick={() => useOverlay.setState({ shown: 'keys' })}>
        ?
      </Button>
    </header>
  )
}
