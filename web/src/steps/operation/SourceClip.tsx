/** Another clip of the workspace, chosen for an operation to work with. */
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { answer, client, clipOfTake, textOf } from '../../api/client'
import type { Clip } from '../../evaluation/model'
import { Select } from '../../ui/controls'
import { notify } from '../../view/bench'

/** A take's clip by `take:3`, what is stored by `stored:4`. */
interface Source {
  name: string
  state: string
}

/** What is stored in a workspace: poses and motions. */
export const useStored = (workspace: number) =>
  useQuery({
    queryKey: ['stored', workspace],
    queryFn: () =>
      answer(
        client.GET('/api/workspaces/{workspace_id}/stored', {
          params: { path: { workspace_id: workspace } },
        }),
      ),
  })

/** The takes of a workspace, each with its clip. */
export const useTakes = (workspace: number) =>
  useQuery({
    queryKey: ['takes', workspace],
    queryFn: () =>
      answer(
        client.GET('/api/workspaces/{workspace_id}/takes', {
          params: { path: { workspace_id: workspace } },
        }),
      ),
  })

/** The chosen clip: an input for an operation, and the choice of it; with `poses` also what is one
 * frame long. */
export function useSource(clip: Clip, poses = false) {
  const least = poses ? 1 : 2
  const [source, setSource] = useState<Source | null>(null)
  const takes = useTakes(clip.workspace)
  const others = takes.data?.filter((t) => t.clip !== clip.id && t.frames >= least) ?? []
  const stored = useStored(clip.workspace).data?.filter((s) => s.frames >= least) ?? []
  const choose = async (name: string) => {
    const [kind, id] = name.split(':') as [string, string]
    try {
      const state =
        kind === 'stored'
          ? stored.find((s) => s.id === Number(id))!.state
          : (await clipOfTake(Number(id))).head.state
      setSource({ name, state })
    } catch (trouble) {
      notify(textOf(trouble))
    }
  }
  const choice = (label: string) => (
    <Select
      label={label}
      className="w-full"
      value={source?.name ?? ''}
      options={{
        '': others.length + stored.length ? 'choose a clip' : 'no other clip is on the shelf',
        ...Object.fromEntries(stored.map((s) => [`stored:${s.id}`, `stored: ${s.name}`])),
        ...Object.fromEntries(others.map((t) => [`take:${t.id}`, t.name])),
      }}
      onChange={(name) => name && void choose(name)}
    />
  )
  const inputs = source ? { source: source.state } : ('to be chosen' as const)
  return { choice, inputs, state: source?.state ?? null }
}
