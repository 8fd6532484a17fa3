/** The chosen takes' clips delivered at once: in which forms. */
import { useState } from 'react'
import { useNavigate } from 'react-router'
import { answer, client } from '../api/client'
import { usePresets } from '../steps/deliver/form'
import { Button, Check, Dialog } from '../ui/controls'
import { counted } from '../ui/numbers'

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
  const [trouble, setTrouble] = useState('')
  const navigate = useNavigate()
  const start = async () => {
    try {
      const handover = await answer(
        client.POST('/api/workspaces/{workspace_id}/handovers', {
          params: { path: { workspace_id: workspace } },
          body: { takes, presets: [...chosen], again },
        }),
      )
      navigate(`/delivery/${handover.id}`)
    } catch (reason) {
      setTrouble((reason as Error).message)
    }
  }
  const files = takes.length * chosen.size
  return (
    <Dialog open onClose={onClose} title={`Deliver ${counted(takes.length, 'clip')}`}>
      <div className="flex flex-col gap-3 overflow-y-auto px-4 py-3">
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
        {trouble && (
          <p role="alert" className="text-bad">
            {trouble}
          </p>
        )}
      </div>
      <div className="flex gap-2 border-rule border-t px-4 py-3 [&>button]:h-8 [&>button]:flex-1">
        <Button onClick={onClose}>Not now</Button>
        <Button kind="primary" disabled={!files} onClick={() => void start()}>
          {files ? `Deliver ${counted(files, 'file')}` : 'Choose a form'}
        </Button>
      </div>
    </Dialog>
  )
}
