/** A character for the chosen takes: each is retargeted onto it, as a clip of its own. */
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { answer, client } from '../api/client'
import { Check, Choice } from '../ui/controls'
import { counted } from '../ui/numbers'
import { Ask } from './Ask'

export function RetargetMany({
  workspace,
  takes,
  onClose,
}: {
  workspace: number
  takes: number[]
  onClose: () => void
}) {
  const path = { workspace_id: workspace }
  const { data: skeletons } = useQuery({
    queryKey: ['skeletons', workspace],
    queryFn: () =>
      answer(client.GET('/api/workspaces/{workspace_id}/skeletons', { params: { path } })),
  })
  // A character is not retargeted onto itself.
  const there = skeletons?.filter((s) => s.still && !takes.includes(s.take)) ?? []
  const [chosen, setChosen] = useState('')
  const [plant, setPlant] = useState(true)
  const target = chosen || String(there[0]?.take ?? '')
  const start = async () => {
    await answer(
      client.POST('/api/workspaces/{workspace_id}/retarget', {
        params: { path },
        body: { takes, target: Number(target), params: { plant } },
      }),
    )
    onClose()
  }
  return (
    <Ask
      title={`A character for ${counted(takes.length, 'take')}`}
      action="Retarget"
      ready={target !== ''}
      onStart={start}
      onClose={onClose}
    >
      {there.length > 0 ? (
        <Choice
          label="Onto"
          value={target}
          options={Object.fromEntries(there.map((s) => [String(s.take), s.name]))}
          onChange={setChosen}
        />
      ) : (
        <p className="text-ink-2">
          No character is on the shelf. Bring in a file of its skeleton: a BVH of one frame, or
          glTF, USD or clip JSON without motion.
        </p>
      )}
      <Check on={plant} onChange={setPlant}>
        Hold feet where they stand, by plants
      </Check>
      <p className="text-ink-3">
        What was last worked on of each take is retargeted, with the map of joints that is kept for
        the pair. Each becomes a clip of its own.
      </p>
    </Ask>
  )
}
