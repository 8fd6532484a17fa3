/** The bin: what was deleted, how much room it takes, and the way back. */
import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { answer, client, type Schemas, textOf } from '../api/client'
import { Button, Dialog } from '../ui/controls'
import { bytes, counted, day } from '../ui/numbers'

type Binned = Schemas['BinnedOut']

/** What is in a workspace's bin. */
export const useBin = (workspace: number) =>
  useQuery({
    queryKey: ['bin', workspace],
    enabled: workspace > 0,
    queryFn: () =>
      answer(
        client.GET('/api/workspaces/{workspace_id}/bin', {
          params: { path: { workspace_id: workspace } },
        }),
      ),
  })

/** Put something of a workspace's bin back where it was. */
export const putBackInto = (workspace: number, { kind, id }: Pick<Binned, 'kind' | 'id'>) =>
  answer(
    client.POST('/api/workspaces/{workspace_id}/bin/put-back', {
      params: { path: { workspace_id: workspace } },
      body: { kind: kind as 'take', id },
    }),
  )

/** Of what is in the bin, how much is deleted. */
function whatGoes(gone: number, all: number): string {
  if (all === 1) return 'This goes'
  const which = gone === all ? `These ${all}` : `${gone} of these ${all}`
  return `${which} ${gone === 1 ? 'goes' : 'go'}`
}

export function Bin({
  workspace,
  owns,
  onClose,
}: {
  workspace: number
  owns: boolean
  onClose: () => void
}) {
  const bin = useBin(workspace)
  const queries = useQueryClient()
  const [trouble, setTrouble] = useState('')
  const [sure, setSure] = useState(false)
  const params = { path: { workspace_id: workspace } }
  const run = async (asked: Promise<unknown>) => {
    setTrouble('')
    setSure(false)
    try {
      await asked
    } catch (reason) {
      setTrouble(textOf(reason))
    }
    for (const name of ['bin', 'takes', 'usage', 'recipes', 'stored'])
      void queries.invalidateQueries({ queryKey: [name] })
  }
  const putBack = (one: Binned) => run(putBackInto(workspace, one))
  const empty = () => run(answer(client.DELETE('/api/workspaces/{workspace_id}/bin', { params })))
  const items = bin.data ?? []
  const held = items.reduce((sum, b) => sum + b.bytes, 0)
  const clips = items.reduce((sum, b) => sum + b.clips.length, 0)
  const gone = items.filter((b) => b.kept_for.length === 0).length
  return (
    <Dialog open wide onClose={onClose} title="Bin">
      <div className="flex flex-col gap-3 overflow-y-auto px-4 py-3">
        {trouble && (
          <p role="alert" className="text-bad">
            {trouble}
          </p>
        )}
        {bin.data?.length === 0 && <p className="py-6 text-center text-ink-2">The bin is empty.</p>}
        <ul className="flex flex-col">
          {items.map((b) => (
            <li
              key={`${b.kind} ${b.id}`}
              className="flex items-center gap-3 border-rule border-b py-1.5"
            >
              <span className="min-w-0 flex-1">
                <b className="block truncate font-semibold">{b.name}</b>
                <span className="text-ink-2">
                  {b.kind}
                  {b.bytes > 0 && <span className="num"> · {bytes(b.bytes)}</span>} ·{' '}
                  {b.kept_for.length > 0 ? 'leaves the bin' : 'goes for good'} on {day(b.until)}
                  {b.clips.length > 0 && (
                    <span className="block">
                      {b.clips.length === 1
                        ? 'Deleted with its clip: '
                        : `Deleted with its ${b.clips.length} clips: `}
                      {b.clips.join(', ')}
                    </span>
                  )}
                  {b.kept_for.length > 0 && (
                    <span className="block">
                      Kept out of sight, because these clips have used it: {b.kept_for.join(', ')}
                    </span>
                  )}
                </span>
              </span>
              <Button aria-label={`Put back: ${b.name}`} onClick={() => void putBack(b)}>
                Put back
              </Button>
            </li>
          ))}
        </ul>
        {items.length > 0 && owns && (
          <div className="flex items-center justify-end gap-3">
            {sure ? (
              <>
                <span className="text-bad">
                  {gone === 0
                    ? 'Nothing is deleted: all of it is kept out of sight.'
                    : `${whatGoes(gone, items.length)} for good${clips > 0 ? `, with ${counted(clips, 'clip')}` : ''}.`}
                </span>
                <Button onClick={() => setSure(false)}>Keep</Button>
                <Button kind="primary" onClick={() => void empty()}>
                  Delete for good
                </Button>
              </>
            ) : (
              <Button onClick={() => setSure(true)}>Empty the bin: {bytes(held)}</Button>
            )}
          </div>
        )}
      </div>
    </Dialog>
  )
}
