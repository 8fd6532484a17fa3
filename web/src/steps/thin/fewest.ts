/** The search for the fewest keys: a job that finds what a line makes, and then the write of it.
 *
 * The job outlives a reload: it is noted in the browser by its clip, and taken up again.
 */
import { useQuery } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { commitThin, type ThinParams } from '../../actions/thinning'
import { answer, client, textOf } from '../../api/client'
import type { Scope } from '../../evaluation/model'
import { notify, useBench } from '../../view/bench'

interface Search {
  job: number
  params: ThinParams
  scope: Scope
  /** The line that is changed; else one is appended. */
  line: string | null
}

const place = (clip: number) => `lean.search.${clip}`

function noted(clip: number | undefined): Search | null {
  const text = clip === undefined ? null : localStorage.getItem(place(clip))
  return text ? (JSON.parse(text) as Search) : null
}

/** The search that is under way in the open clip, how far it is, and how to begin and end one. */
export function useFewest() {
  const clip = useBench((s) => s.clip?.id)
  const revision = useBench((s) => s.clip?.head.id)
  const [search, setSearch] = useState<Search | null>(() => noted(clip))
  const [trouble, setTrouble] = useState<string | null>(null)
  const keep = (next: Search | null) => {
    if (clip === undefined) return
    if (next) localStorage.setItem(place(clip), JSON.stringify(next))
    else localStorage.removeItem(place(clip))
    setSearch(next)
  }
  const path = { job_id: search?.job ?? 0 }
  const job = useQuery({
    queryKey: ['job', search?.job],
    enabled: search !== null,
    refetchInterval: 300,
    queryFn: () => answer(client.GET('/api/jobs/{job_id}', { params: { path } })),
  })
  const state = job.data?.state
  // biome-ignore lint/correctness/useExhaustiveDependencies: once, when the job ends
  useEffect(() => {
    if (!search || job.data?.id !== search.job) return
    if (state === 'failed') setTrouble(job.data.message)
    if (state === 'done') {
      void commitThin(search.params, search.scope, search.line)
    }
    if (state !== 'queued' && state !== 'running') keep(null)
  }, [state, search])
  return {
    running: search !== null,
    progress: job.data?.progress ?? 0,
    trouble,
    begin: async (params: ThinParams, scope: Scope, line: string | null) => {
      if (clip === undefined || revision === undefined) return
      setTrouble(null)
      try {
        const started = await answer(
          client.POST('/api/clips/{clip_id}/prepare', {
            params: { path: { clip_id: clip } },
            body: {
              revision,
              line: { operation: 'thin', params: { ...params }, scope },
              in_place_of: line,
            },
          }),
        )
        keep({ job: started.id, params, scope, line })
      } catch (problem) {
        setTrouble(textOf(problem))
      }
    },
    cancel: () => {
      void client
        .POST('/api/jobs/{job_id}/cancel', { params: { path } })
        .then(() => notify('The search was stopped; nothing has changed.'))
    },
  }
}
