/** A file or a card of the shelf let go of over the stage: what it shall be beside this clip. */
import { useQueryClient } from '@tanstack/react-query'
import { type DragEvent, useState } from 'react'
import { setStep } from '../actions/choose'
import { addPart } from '../actions/joining'
import { addPartner, MOST } from '../actions/partners'
import { answer, client, clipOfTake, type Schemas, sendFiles, textOf } from '../api/client'
import { mayChange } from '../session/session'
import { useJob } from '../sync/useJob'
import { apply, write } from '../sync/write'
import { Button, Dialog } from '../ui/controls'
import { notify, useBench } from '../view/bench'
import { CARRIED } from '../view/carried'

const carries = (event: DragEvent) =>
  event.dataTransfer.types.some((type) => type === 'Files' || type === CARRIED)

type Take = Schemas['TakeOut']

/** The takes that are dropped, one after the other, and what a pane does with what is dropped. */
export function useDropped() {
  const workspace = useBench((s) => s.clip?.workspace)
  const queries = useQueryClient()
  const [over, setOver] = useState(false)
  const [takes, setTakes] = useState<Take[]>([])
  const bring = async (ids: readonly number[]) => {
    if (workspace === undefined) return
    const params = { path: { workspace_id: workspace } }
    try {
      const all = await answer(client.GET('/api/workspaces/{workspace_id}/takes', { params }))
      const found = all.filter((take) => ids.includes(take.id))
      setTakes(found)
      if (!found.length) notify('That take is not in this workspace: bring its file in here.')
    } catch (error) {
      notify(textOf(error))
    }
  }
  const reading = useJob('dropped', (job) => {
    void queries.invalidateQueries({ queryKey: ['takes'] })
    if (job.state !== 'done') notify(job.message || 'The file was not brought in.')
    else void bring(job.result.takes as number[])
  })
  const send = async (files: File[]) => {
    try {
      const out = await sendFiles<Schemas['UploadOut']>(
        `/api/workspaces/${workspace}/files`,
        'files',
        files,
      )
      if (out.refused[0]) notify(out.refused[0].detail)
      const job = out.jobs.at(-1)
      if (job) reading.wait(job)
    } catch (error) {
      notify(textOf(error))
    }
  }
  const handlers = {
    onDragOver: (event: DragEvent) => {
      if (!carries(event)) return
      event.preventDefault()
      setOver(true)
    },
    onDragLeave: () => setOver(false),
    onDrop: (event: DragEvent) => {
      setOver(false)
      if (workspace === undefined || !carries(event) || !mayChange(workspace)) return
      event.preventDefault()
      const files = [...event.dataTransfer.files]
      const carried = Number(event.dataTransfer.getData(CARRIED))
      if (files.length) void send(files)
      else if (carried) void bring([carried])
    },
  }
  const cover = (
    <>
      {(over || reading.running) && (
        <div
          role="status"
          className="pointer-events-none absolute inset-2 grid place-items-center rounded-md border-2 border-calm border-dashed font-semibold"
        >
          <span className="rounded-[3px] bg-raised px-3 py-1.5">
            {over ? 'Let go: you are asked what it shall be' : 'Bringing the file in …'}
          </span>
        </div>
      )}
      {takes[0] && <AsWhat take={takes[0]} onDone={() => setTakes(takes.slice(1))} />}
    </>
  )
  return { handlers, cover }
}

function AsWhat({ take, onDone }: { take: Take; onDone: () => void }) {
  const clip = useBench((s) => s.clip)
  if (!clip) return null
  const alike = take.skeleton === clip.skeleton
  const choose = (what: () => Promise<unknown>) => {
    onDone()
    void what()
  }
  const after = async () => {
    setStep('join')
    await addPart(take.id)
  }
  const onto = async () => {
    try {
      const other = await clipOfTake(take.id)
      const name = take.name.slice(0, 60)
      const source = { source: other.head.state }
      await apply('load_layer', { name }, {}, undefined, undefined, source)
    } catch (error) {
      notify(textOf(error))
    }
  }
  return (
    <Dialog open onClose={onDone} title={take.name}>
      <div className="flex flex-col gap-2 px-4 py-3 [&>button]:h-8">
        <p className="text-ink-2">It is on the shelf now. Beside that it can be:</p>
        <Button disabled={take.frames < 2} onClick={() => choose(after)}>
          After this clip
        </Button>
        <Button
          disabled={!alike}
          onClick={() => choose(() => write({ swap: take.id }, 'The swap'))}
        >
          Instead of this clip’s take
        </Button>
        {!alike && <p className="text-ink-3">Its skeleton is another one than this clip’s.</p>}
        <Button onClick={() => choose(onto)}>Onto a layer</Button>
        <Button
          disabled={clip.partners.length >= MOST}
          onClick={() => choose(() => addPartner(take.id))}
        >
          Beside it, as a partner
        </Button>
        <Button kind="quiet" onClick={onDone}>
          None of these
        </Button>
      </div>
    </Dialog>
  )
}
