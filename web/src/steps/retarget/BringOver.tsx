/** Parts of another clip brought over into this one: whose they are, then which joints and frames. */
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { answer, client, textOf } from '../../api/client'
import { type Clip, notify } from '../../clip/bench'
import { transport } from '../../clip/transport'
import { Select } from '../../ui/controls'
import { OperationCard } from '../operation/OperationCard'

const HIDDEN = ['joints', 'rest', 'at', 'tolerance_deg', 'tolerance_mm']

/** The frame that its frame comes to: where the range begins, or this clip. */
const landing = () => ({ at: transport.partial ? transport.range[0] : 0 })

export function BringOver({ clip }: { clip: Clip }) {
  const [source, setSource] = useState<{ take: number; state: string } | null>(null)
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
      // A take that nobody has worked on yet has its clip by this.
      const other = await answer(
        client.POST('/api/takes/{take_id}/clip', { params: { path: { take_id: take } } }),
      )
      setSource({ take, state: other.head.state })
    } catch (trouble) {
      notify(textOf(trouble))
    }
  }
  return (
    <OperationCard
      name="bring_over"
      hidden={HIDDEN}
      live={landing}
      inputs={source ? { source: source.state } : 'to be chosen'}
    >
      <Select
        label="Clip to bring parts of"
        className="w-full"
        value={source === null ? '' : String(source.take)}
        options={{
          '': others.length ? 'choose a clip' : 'no other clip is on the shelf',
          ...Object.fromEntries(others.map((t) => [String(t.id), t.name])),
        }}
        onChange={(take) => take && void choose(Number(take))}
      />
    </OperationCard>
  )
}
