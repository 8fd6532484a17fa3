/** Deliver: the form a destination needs, the files it makes, each read back and compared. */
import { keepPreviousData, useQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect, useRef, useState, useSyncExternalStore } from 'react'
import { answer, client, type Schemas } from '../../api/client'
import { useJob } from '../../sync/useJob'
import { Button, Field, inputLook } from '../../ui/controls'
import { bytes, counted } from '../../ui/numbers'
import { notify, useBench } from '../../view/bench'
import { transport } from '../../view/transport'
import { Panel, Trouble } from '../Panel'
import { Delivered } from './Delivered'
import { deviations, type Form, type PresetOut, usePresets } from './form'
import { PresetForm } from './PresetForm'

const tidy = (text: string) => text.replace(/[^\p{L}\p{N}]+/gu, '_').replace(/^_+|_+$/g, '')

/** What is chosen outlives the panel, for a workspace: a preset, and how its form was changed. */
const kept = new Map<number, { preset: number; form: Form | null }>()

export function DeliverPanel() {
  const clip = useBench((s) => s.clip)
  const queries = useQueryClient()
  const workspace = clip?.workspace ?? 0
  const presets = usePresets(workspace)
  const [chosen, setChosen] = useState(kept.get(workspace)?.preset ?? 0)
  const [changed, setChanged] = useState<Form | null>(kept.get(workspace)?.form ?? null)
  const [character, setCharacter] = useState(tidy(clip?.skeleton ?? 'figure').toLowerCase())
  const [action, setAction] = useState(tidy(clip?.take_name ?? 'take').toLowerCase())
  const [version, setVersion] = useState<number | null>(null)
  const [trouble, setTrouble] = useState<string | null>(null)
  /** Whether what was just delivered is to be brought into view. */
  const [arrived, setArrived] = useState(false)
  const listed = useRef<HTMLDivElement>(null)
  const [first, last] = useSyncExternalStore(transport.subscribe, () => transport.range)

  const preset = presets.data?.find((p) => p.id === chosen) ?? presets.data?.[0]
  const form = changed ?? preset?.values
  const set = (id: number, next: Form | null) => {
    kept.set(workspace, { preset: id, form: next })
    setChosen(id)
    setChanged(next)
  }
  const change = (fields: Partial<Form>) => {
    if (!form || !preset) return
    const next = { ...form, ...fields }
    set(preset.id, deviations(next, preset.values).size ? next : null)
  }
  const path = { clip_id: clip?.id ?? 0 }
  const deliveries = useQuery({
    queryKey: ['deliveries', path.clip_id, clip?.head.id],
    placeholderData: keepPreviousData,
    queryFn: () => answer(client.GET('/api/clips/{clip_id}/deliveries', { params: { path } })),
  })
  const job = useJob(`deliver.${path.clip_id}`, (ended) => {
    if (ended.state === 'failed') setTrouble(ended.message)
    if (ended.state === 'done') {
      notify(`${ended.title} is delivered, and read back.`)
      setVersion(null)
      setArrived(true)
    }
    void queries.invalidateQueries({ queryKey: ['deliveries'] })
  })
  const count = deliveries.data?.length
  // biome-ignore lint/correctness/useExhaustiveDependencies: the count is the signal
  useEffect(() => {
    if (!arrived) return
    listed.current?.scrollIntoView({ block: 'start' })
    setArrived(false)
  }, [count])
  const asked: Schemas['DeliverIn'] | null =
    clip && form
      ? {
          ...form,
          revision: clip.head.id,
          first,
          last,
          character,
          action,
          version,
          preset: changed ? '' : (preset?.name ?? ''),
        }
      : null
  const plan = useQuery({
    queryKey: ['delivery plan', path.clip_id, asked, count],
    enabled: asked !== null && asked.pattern.trim() !== '',
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: () =>
      answer(
        client.POST('/api/clips/{clip_id}/deliveries/plan', { params: { path }, body: asked! }),
      ),
  })
  if (!clip) return null
  const deliver = async () => {
    setTrouble(null)
    try {
      const started = await answer(
        client.POST('/api/clips/{clip_id}/deliveries', { params: { path }, body: asked! }),
      )
      job.wait(started)
    } catch (problem) {
      setTrouble((problem as Error).message)
    }
  }
  return (
    <Panel
      title="Deliver"
      lead="The range on the time strip, in the form its destination needs; each file is read back and compared with the clip."
      actions={
        job.running ? (
          <>
            <Button onClick={job.cancel}>Cancel</Button>
            <Button kind="primary" disabled>
              {Math.round(100 * job.progress)} %
            </Button>
          </>
        ) : (
          <Button kind="primary" disabled={!asked} onClick={() => void deliver()}>
            Deliver
          </Button>
        )
      }
    >
      {trouble && <Trouble>{trouble}</Trouble>}
      {presets.data && form && preset && (
        <>
          <Presets
            presets={presets.data}
            preset={preset}
            form={form}
            changed={changed !== null}
            workspace={workspace}
            onChoose={set}
          />
          <PresetForm form={form} off={deviations(form, preset.values)} onChange={change} />
          <div className="grid grid-cols-[minmax(0,1fr)_minmax(0,1fr)_64px] gap-2">
            <Field label="Character">
              <input
                className={`${inputLook} w-full`}
                value={character}
                onChange={(e) => setCharacter(e.target.value)}
              />
            </Field>
            <Field label="Action">
              <input
                className={`${inputLook} w-full`}
                value={action}
                onChange={(e) => setAction(e.target.value)}
              />
            </Field>
            <Field label="Version">
              <input
                type="number"
                min={1}
                className={`${inputLook} num w-full`}
                placeholder="next"
                title="The next that is free where nothing is typed"
                value={version ?? ''}
                onChange={(e) => {
                  const typed = Math.round(Number(e.target.value))
                  setVersion(e.target.value.trim() === '' || !(typed >= 1) ? null : typed)
                }}
              />
            </Field>
          </div>
          <Field label="Name pattern">
            <input
              className={`${inputLook} num`}
              value={form.pattern}
              onChange={(e) => change({ pattern: e.target.value })}
            />
          </Field>
          <Summary files={plan.data} trouble={plan.error?.message} />
        </>
      )}
      <div ref={listed}>
        {(deliveries.data?.length ?? 0) > 0 && <Delivered deliveries={deliveries.data!} />}
      </div>
    </Panel>
  )
}

/** What would be delivered: how many files, how large, and what they are called. */
function Summary({
  files,
  trouble,
}: {
  files: Schemas['FileOut'][] | undefined
  trouble: string | undefined
}) {
  const size = files?.reduce((sum, f) => sum + f.bytes, 0) ?? 0
  return (
    <div role="status" className="rounded-[3px] bg-sunk px-2.5 py-1.5">
      {trouble ? (
        <p className="text-bad" data-testid="file-name">
          {trouble}
        </p>
      ) : (
        <>
          <p className="text-ink-2">
            {files ? `${counted(files.length, 'file')}, about ${bytes(size)}` : '…'}
          </p>
          {files?.slice(0, 6).map((f) => (
            <p key={f.name} className="num break-all" data-testid="file-name">
              {f.name}
              {f.taken && <span className="text-bad"> is delivered already</span>}
            </p>
          ))}
          {(files?.length ?? 0) > 6 && <p className="text-ink-2">and {files!.length - 6} more</p>}
        </>
      )}
    </div>
  )
}

/** The presets of the workspace: one is chosen, kept under a name, or deleted. */
function Presets({
  presets,
  preset,
  form,
  changed,
  workspace,
  onChoose,
}: {
  presets: PresetOut[]
  preset: PresetOut
  form: Form
  changed: boolean
  workspace: number
  onChoose: (preset: number, form: Form | null) => void
}) {
  const queries = useQueryClient()
  const [name, setName] = useState('')
  const [trouble, setTrouble] = useState('')
  const own = preset.id > 0
  const again = () => queries.invalidateQueries({ queryKey: ['presets'] })
  const keep = async (under: string) => {
    setTrouble('')
    try {
      const made = await answer(
        client.PUT('/api/workspaces/{workspace_id}/presets/{name}', {
          params: { path: { workspace_id: workspace, name: under } },
          body: { values: form },
        }),
      )
      await again()
      setName('')
      onChoose(made.id, null)
    } catch (problem) {
      setTrouble((problem as Error).message)
    }
  }
  const remove = async () => {
    await client.DELETE('/api/presets/{preset_id}', {
      params: { path: { preset_id: preset.id } },
    })
    onChoose(0, form)
    await again()
  }
  return (
    <section className="flex flex-col gap-1.5">
      <Field label="Preset">
        <select
          aria-label="Preset"
          className={`${inputLook} w-full font-semibold text-ink`}
          value={preset.id}
          onChange={(e) => onChoose(Number(e.target.value), null)}
        >
          {presets.map((p) => (
            <option key={p.id} value={p.id}>
              {p.name}
            </option>
          ))}
        </select>
      </Field>
      {changed && (
        <p className="flex flex-wrap items-center gap-2">
          <span className="text-warn">changed</span>
          <Button onClick={() => onChoose(preset.id, null)}>Back to the preset</Button>
          {own && <Button onClick={() => void keep(preset.name)}>Keep in the preset</Button>}
        </p>
      )}
      {own && !changed && (
        <p>
          <Button onClick={() => void remove()}>Delete the preset</Button>
        </p>
      )}
      {changed && (
        <form
          className="flex gap-2"
          onSubmit={(e) => {
            e.preventDefault()
            if (name.trim()) void keep(name.trim())
          }}
        >
          <input
            aria-label="Name of a new preset"
            placeholder="name of a new preset"
            maxLength={120}
            className={`${inputLook} min-w-0 flex-1`}
            value={name}
            onChange={(e) => setName(e.target.value)}
          />
          <Button type="submit" disabled={!name.trim()}>
            Keep as a preset
          </Button>
        </form>
      )}
      {trouble && <Trouble>{trouble}</Trouble>}
    </section>
  )
}
