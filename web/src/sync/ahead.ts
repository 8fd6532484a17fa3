/** Work that takes long, done ahead of its write: a job finds what a line or a recipe makes, and
 * then the write of it is quick.
 *
 * The job outlives a reload: it is noted in the browser by its clip, and taken up again.
 */
import { useQuery } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { answer, client, type Schemas, textOf } from '../api/client'
import { notify, useBench } from '../view/bench'

interface Ahead<T> {
  job: number
  /** What is written once the job is done. */
  what: T
}

/** The work of a `kind` that is under way in the open clip, how far it is, and how to begin and
 * end it; `write` makes it a change of the clip. */
export function useAhead<T>(kind: string, write: (what: T) => void) {
  const clip = useBench((s) => s.clip?.id)
  const revision = useBench((s) => s.clip?.head.id)
  const place = `lean.${kind}.${clip}`
  const [ahead, setAhead] = useState<Ahead<T> | null>(() => {
    const text = clip === undefined ? null : localStorage.getItem(place)
    return text ? (JSON.parse(text) as Ahead<T>) : null
  })
  const [trouble, setTrouble] = useState<string | null>(null)
  const keep = (next: Ahead<T> | null) => {
    if (clip === undefined) return
    if (next) localStorage.setItem(place, JSON.stringify(next))
    else localStorage.removeItem(place)
    setAhead(next)
  }
  const path = { job_id: ahead?.job ?? 0 }
  const job = useQuery({
    queryKey: ['job', ahead?.job],
    enabled: ahead !== null,
    refetchInterval: 300,
    queryFn: () => answer(client.GET('/api/jobs/{job_id}', { params: { path } })),
  })
  const state = job.data?.state
  // biome-ignore lint/correctness/useExhaustiveDependencies: once, when the job ends
  useEffect(() => {
    if (!ahead || job.data?.id !== ahead.job) return
    if (state === 'failed') setTrouble(job.data.message)
    if (state === 'done') write(ahead.what)
    if (state !== 'queued' && state !== 'running') keep(null)
  }, [state, ahead])
  return {
    running: ahead !== null,
    progress: job.data?.progress ?? 0,
    trouble,
    begin: async (asked: Omit<Schemas['PrepareIn'], 'revision'>, what: T) => {
      if (clip === undefined || revision === undefined) return
      setTrouble(null)
      try {
        const started = await answer(
          client.POST('/api/clips/{clip_id}/prepare', {
            params: { path: { clip_id: clip } },
            body: { revision, ...asked },
          }),
        )
        keep({ job: started.id, what })
      } catch (problem) {
        setTrouble(textOf(problem))
      }
    },
    cancel: (told: string) => {
      void client.POST('/api/jobs/{job_id}/cancel', { params: { path } }).then(() => notify(told))
    },
  }
}
