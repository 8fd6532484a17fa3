/** The bench's top line: where one is, what is saved, undo and redo, drift, commands. */
import { useQuery, useQueryClient } from '@tanstack/react-query'
import { History, Redo2, Trash2, Undo2, Users } from 'lucide-react'
import { useState } from 'react'
import { Link, useNavigate } from 'react-router'
import { answer, client, textOf } from '../api/client'
import { useBusy } from '../api/patience'
import { mayChange, useSession } from '../session/session'
import { useHistory } from '../sync/history'
import { jump, redo, undo } from '../sync/write'
import { Button, Popover, Tip } from '../ui/controls'
import { bytes } from '../ui/numbers'
import { notify, useBench } from '../view/bench'
import { useOverlay } from '../view/overlay'
import { AccountFigure } from './AccountFigure'

function HistoryList() {
  const clip = useBench((s) => s.clip)
  const queries = useQueryClient()
  const navigate = useNavigate()
  const [going, setGoing] = useState(false)
  const putInBin = async (id: number) => {
    setGoing(true)
    try {
      const params = { path: { clip_id: id } }
      await answer(client.DELETE('/api/clips/{clip_id}', { params }))
      await queries.invalidateQueries()
      navigate('/')
    } catch (trouble) {
      notify(textOf(trouble))
      setGoing(false)
    }
  }
  const list = useHistory()
  const stored = useQuery({
    queryKey: ['storage', clip?.id, clip?.head.id],
    enabled: clip !== null,
    queryFn: () =>
      answer(
        client.GET('/api/clips/{clip_id}/storage', { params: { path: { clip_id: clip!.id } } }),
      ),
  })
  // Revisions that led to the head; others were left or undone.
  const parents = new Map((list.data ?? []).map((r) => [r.id, r.parent]))
  const line = new Set<number>()
  for (let at: number | null | undefined = clip?.head.id; at != null; at = parents.get(at))
    line.add(at)
  return (
    <>
      <ol className="max-h-80 w-72 overflow-y-auto" aria-label="History">
        {[...(list.data ?? [])].reverse().map((r) => (
          <li key={r.id}>
            <button
              type="button"
              aria-current={r.head ? 'true' : undefined}
              title={line.has(r.id) ? undefined : 'Left or undone: press to go to it'}
              className={`flex min-h-6 w-full justify-between gap-3 rounded-[3px] px-1 py-0.5 text-left hover:bg-sunk ${r.head ? 'bg-sunk font-semibold' : ''}`}
              onClick={() => void jump(r.id)}
            >
              <span className={line.has(r.id) ? '' : 'pl-4 text-ink-2'}>
                <span className="num text-ink-3">{r.number}</span>{' '}
                {!line.has(r.id) && <span className="sr-only">left or undone: </span>}
                {line.has(r.id) ? '' : '↳ '}
                {r.cause}
              </span>
              <time className="num text-ink-3">
                {new Date(r.created).toLocaleTimeString('en-GB')}
              </time>
            </button>
          </li>
        ))}
      </ol>
      <p className="mt-2 border-rule border-t px-1 pt-2 text-ink-2">
        {stored.data
          ? `${stored.data.revisions} ${stored.data.revisions === 1 ? 'revision holds' : 'revisions hold'} ${bytes(stored.data.bytes)}`
          : '…'}
      </p>
      {clip && mayChange(clip.workspace) && (
        <Tip text="Its work with it; it can be put back for 30 days. The take stays as it came.">
          <Button kind="quiet" disabled={going} onClick={() => void putInBin(clip.id)}>
            <Trash2 size={13} aria-hidden /> Put this clip in the bin
          </Button>
        </Tip>
      )}
    </>
  )
}

export function BenchHeader() {
  const clip = useBench((s) => s.clip)
  const saving = useBench((s) => s.saving)
  const pending = useBench((s) => s.pending)
  const away = useBench((s) => s.away)
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
      <Button disabled={!clip?.can_redo} onClick={() => void redo()}>
        <Redo2 size={13} /> <span className="max-[1000px]:sr-only">Redo</span>
      </Button>
      <AccountFigure />
      <Button onClick={() => useOverlay.setState({ shown: 'commands' })}>Commands</Button>
      <Button aria-label="Keys" onClick={() => useOverlay.setState({ shown: 'keys' })}>
        ?
      </Button>
    </header>
  )
}
