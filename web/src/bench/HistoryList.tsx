/** The history of the clip: any revision is a press away; and the clip's way into the bin. */
import { useQuery, useQueryClient } from '@tanstack/react-query'
import { Trash2 } from 'lucide-react'
import { useState } from 'react'
import { useNavigate } from 'react-router'
import { answer, client, textOf } from '../api/client'
import { mayChange } from '../session/session'
import { useHistory } from '../sync/history'
import { jump } from '../sync/write'
import { Button, Tip } from '../ui/controls'
import { bytes } from '../ui/numbers'
import { notify, useBench } from '../view/bench'
import type { Binned } from '../view/binned'

/** All revisions of the clip, the newest first, and what may be done with the clip as a whole. */
export function HistoryList() {
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
      const binned: Binned = { kind: 'clip', id, name: clip!.name, workspace: clip!.workspace }
      navigate('/', { state: { binned } })
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
