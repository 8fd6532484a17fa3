/** A workspace as a file: written by a job, then fetched. */
import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { answer, client, textOf } from '../api/client'
import { Button } from '../ui/controls'
import { bytes, counted } from '../ui/numbers'

/** Where the job that writes a workspace's file is remembered over a reload. */
const KEY = 'lean.export'

const remembered = (workspace: number): number | null => {
  const kept = sessionStorage.getItem(`${KEY}.${workspace}`)
  return kept ? Number(kept) : null
}

export function Export({ workspace }: { workspace: number }) {
  const [id, setId] = useState(() => remembered(workspace))
  const [trouble, setTrouble] = useState('')
  const queries = useQueryClient()
  const job = useQuery({
    queryKey: ['job', id],
    enabled: id !== null,
    queryFn: () =>
      answer(client.GET('/api/jobs/{job_id}', { params: { path: { job_id: id ?? 0 } } })),
    refetchInterval: (query) => {
      const state = query.state.data?.state
      return state === 'queued' || state === 'running' ? 500 : false
    },
  })
  const start = async () => {
    setTrouble('')
    try {
      const made = await answer(
        client.POST('/api/workspaces/{workspace_id}/export', {
          params: { path: { workspace_id: workspace } },
        }),
      )
      sessionStorage.setItem(`${KEY}.${workspace}`, String(made.id))
      setId(made.id)
    } catch (reason) {
      setTrouble(textOf(reason))
    }
  }
  const cancel = async () => {
    await client.POST('/api/jobs/{job_id}/cancel', { params: { path: { job_id: id ?? 0 } } })
    void queries.invalidateQueries({ queryKey: ['job'] })
  }
  const state = job.data?.state
  const underway = state === 'queued' || state === 'running'
  const made = job.data?.result as { bytes?: number; takes?: number; clips?: number } | undefined
  return (
    <section className="flex flex-col gap-2 border-rule-2 border-t pt-3">
      <h2 className="font-semibold">The workspace as a file</h2>
      <p className="text-ink-2">
        Takes as they were brought in, clips with their recipes and histories, deliveries. Whoever
        runs a place brings it in there, beside what is there.
      </p>
      {(trouble || state === 'failed') && (
        <p role="alert" className="text-bad">
          {trouble || job.data?.message}
        </p>
      )}
      <div className="flex items-center justify-end gap-3">
        {underway && (
          <>
            <progress
              className="h-1.5 flex-1 accent-[var(--calm)]"
              max={1}
              value={job.data?.progress ?? 0}
              aria-label="Progress of the file"
            />
            <Button onClick={() => void cancel()}>Cancel</Button>
          </>
        )}
        {state === 'done' && (
          <>
            <span className="num flex-1 text-ink-2">
              {counted(made?.takes ?? 0, 'take')}, {counted(made?.clips ?? 0, 'clip')} ·{' '}
              {bytes(made?.bytes ?? 0)} · kept for a day
            </span>
            <a
              className="flex h-7 items-center rounded-[3px] border border-rule-2 bg-raised px-2.5 hover:border-ink-3"
              href={`/api/jobs/${id}/file`}
            >
              Fetch the file
            </a>
          </>
        )}
        {!underway && (
          <Button className="h-7" onClick={() => void start()}>
            {state === 'done' ? 'Write it anew' : 'Write the file'}
          </Button>
        )}
      </div>
    </section>
  )
}
