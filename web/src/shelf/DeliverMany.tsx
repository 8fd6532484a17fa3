/** The chosen takes' clips delivered at once: in which forms. */
import { useState } from 'react'
import { useNavigate } from 'react-router'
import { answer, client } from '../api/client'
import { usePresets } from '../steps/deliver/form'
import { Check } from '../ui/controls'
import { counted } from '../ui/numbers'
import { Ask } from './Ask'

export function DeliverMany({
  workspace,
  takes,
  onClose,
}: {
  workspace: number
  takes: number[]
  onClose: () => void
}) {
  const presets = usePresets(workspace)
  const [chosen, setChosen] = useState<ReadonlySet<number>>(new Set())
  const [again, setAgain] = useState(false)
  const navigate = useNavigate()
  const start = async () => {
    const handover = await answer(
      client.POST('/api/workspaces/{workspace_id}/handovers', {
        params: { path: { workspace_id: workspace } },
        body: { takes, presets: [...chosen], again },
      }),
    )
    navigate(`/delivery/${handover.id}`)
  }
  const files = takes.length * chosen.size
  // A file of spans or of several clips is not one of each clip: then clips are counted.
  const each = presets.data?.every((p) => !chosen.has(p.id) || p.values.files === 'whole')
  const what = each ? counted(files, 'file') : counted(takes.length, 'clip')
  return (
    <Ask
      title={`Deliver ${counted(takes.length, 'clip')}`}
      action={files ? `Deliver ${what}` : 'Choose a form'}
      ready={files > 0}
      onStart={start}
      onClose={onClose}
    >
      <fieldset className="flex flex-col">
        <legend className="mb-1 text-ink-2">In the form of</legend>
        {presets.data?.map((p) => (
          <Check
            key={p.id}
            on={chosen.has(p.id)}
            onChange={(on) => {
              const next = new Set(chosen)
              if (on) next.add(p.id)
              else next.delete(p.id)
              setChosen(next)
            }}
          >
            {p.name}
          </Check>
        ))}
      </fieldset>
      <Check on={again} onChange={setAgain}>
        also what has not changed since it was delivered so
      </Check>
      <p className="text-ink-3">
        Each clip goes out whole, as it is now, under the next version that is free. Presets are
        made in the Deliver step of a clip.
      </p>
    </Ask>
  )
}
