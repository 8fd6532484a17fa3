/** Tables of channels hold no skeleton: the one of the shelf that they are read onto. */
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { answer, client } from '../api/client'
import { Choice } from '../ui/controls'
import { counted } from '../ui/numbers'
import { Ask } from './Ask'
import { skeletonText } from './TakeCard'

export function TablesOnto({
  workspace,
  files,
  onChoose,
  onClose,
}: {
  workspace: number
  files: readonly File[]
  /** A take on the skeleton that was chosen. */
  onChoose: (take: number) => void
  onClose: () => void
}) {
  const path = { workspace_id: workspace }
  const { data: skeletons } = useQuery({
    queryKey: ['skeletons', workspace],
    queryFn: () =>
      answer(client.GET('/api/workspaces/{workspace_id}/skeletons', { params: { path } })),
  })
  const [chosen, setChosen] = useState('')
  const onto = chosen || String(skeletons?.[0]?.take ?? '')
  return (
    <Ask
      title={`A skeleton for ${counted(files.length, 'table')}`}
      action="Bring in"
      ready={onto !== ''}
      onStart={() => onChoose(Number(onto))}
      onClose={onClose}
    >
      <p className="break-words">{files.map((f) => f.name).join(', ')}</p>
      {skeletons?.length === 0 ? (
        <p className="text-ink-2">
          No skeleton is on the shelf. Bring in a file that has it first: BVH, glTF, USD or clip
          JSON.
        </p>
      ) : (
        <Choice
          label="Channels of"
          value={onto}
          options={Object.fromEntries(
            (skeletons ?? []).map((s) => [
              String(s.take),
              skeletonText({ skeleton: s.name, joints: s.joints }),
            ]),
          )}
          onChange={setChosen}
        />
      )}
      <p className="text-ink-3">
        A CSV file holds a row of channel values for each frame, with names such as “Hips rz (deg)”,
        and no skeleton. Joints without columns stand as they rest.
      </p>
    </Ask>
  )
}
