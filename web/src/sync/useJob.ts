/** A job that this page waits for: how far it is, and what is done when it ends. It outlives a
 * reload: its number is noted in the browser under a name. */
import { useQuery } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { answer, client, type Schemas } from '../api/client'

type Job = Schemas['JobOut']

export function useJob(name: string, ended: (job: Job) => void) {
  const place = `lean.job.${name}`
  const [id, setId] = useState<number | null>(() => Number(localStorage.getItem(place)) || null)
  const keep = (next: number | null) => {
    if (next === null) localStorage.removeItem(place)
    else localStorage.setItem(place, String(next))
    setId(next)
  }
  const params = { path: { job_id: id ?? 0 } }
  const job = useQuery({
    queryKey: ['job', id],
    enabled: id !== null,
    refetchInterval: 300,
    queryFn: () => answer(client.GET('/api/jobs/{job_id}', { params })),
  })
  const state = job.data?.state
  // biome-ignore lint/correctness/useExhaustiveDependencies: once, when the job ends
  useEffect(() => {
    if (id === null) return
    // One that nobody knows of any more has been dismissed elsewhere.
    if (job.isError) keep(null)
    if (job.data?.id !== id || state === 'queued' || state === 'running') return
    keep(null)
    ended(job.data)
  }, [state, id, job.isError])
  return {
    running: id !== null,
    progress: job.data?.progress ?? 0,
    wait: (started: Job) => keep(started.id),
    cancel: () => void client.POST('/api/jobs/{job_id}/cancel', { params }),
  }
}
