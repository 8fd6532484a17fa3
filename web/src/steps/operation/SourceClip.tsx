/** Another clip of the workspace, chosen for an operation to work with. */
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { answer, client, clipOfTake, textOf } from '../../api/client'
import { type Clip, notify } from '../../clip/bench'
import { Select } from '../../ui/controls'

interface Source {
  take: number
  state: string
}

/** The chosen clip: an input for an operation, and the choice of it. */
export function useSource(clip: Clip) {
  const [source, setSource] = useState<Source | null>(null)
  const takes = useQuery({
    queryKey: ['takes', clip.workspace],
    queryFn: () =>
      answer(
        client.GET('/api/workspaces/{workspace_id}/takes', {
          params: { path: { workspace_id: clip.workspace } },
        }),
      ),
  })
  const others = takes.data?.filter((t) => t.clip !== clip.id && t.frames > 1) ?? []
  const choose = async (take: number) => {
    try {
      const other = await clipOfTake(take)
      setSource({ take, state: other.head.state })
    } catch (trouble) {
      notify(textOf(trouble))
    }
  }
  const choice = (label: string) => (
    <Select
      label={label}
      className="w-full"
      value={source === null ? '' : String(source.take)}
      options={{
        '': others.length ? 'choose a clip' : 'no other clip is on the shelf',
        ...Object.fromEntries(others.map((t) => [String(t.id), t.name])),
      }}
      onChange={(take) => take && void choose(Number(take))}
    />
  )
  const inputs = source ? { source: source.state } : ('to be chosen' as const)
  return { choice, inputs }
}
