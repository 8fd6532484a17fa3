/** Deliver: rate, range and name; the written file read back and compared; download. */
import { keepPreviousData, useQuery, useQueryClient } from '@tanstack/react-query'
import { Download } from 'lucide-react'
import { useEffect, useState } from 'react'
import { mendedCount } from '../../actions/account'
import { answer, client, type Schemas } from '../../api/client'
import { Button, Check, Field, inputLook, Row } from '../../ui/controls'
import { bytes, degrees, grouped, millimetres, rateOf, rounded } from '../../ui/numbers'
import { RATES } from '../../ui/rates'
import { notify, useBench } from '../../view/bench'
import { transport } from '../../view/transport'
import { Panel, Trouble } from '../Panel'

const tidy = (text: string) => text.replace(/[^\p{L}\p{N}]+/gu, '_').replace(/^_+|_+$/g, '')

function Report({ delivery }: { delivery: Schemas['DeliveryOut'] }) {
  const r = delivery.report as Record<string, number> & { rate: number[] }
  return (
    <li className="rounded-[3px] border border-rule-2 bg-paper px-2.5 py-2">
      <a
        href={`/api/deliveries/${delivery.id}/file`}
        download={delivery.file_name}
        className="flex items-center gap-1.5 font-semibold underline decoration-rule-2 underline-offset-2 hover:decoration-ink"
      >
        <Download size={13} className="shrink-0" />
        <span className="break-all">{delivery.file_name}</span>
      </a>
      <dl className="mt-1">
        <Row name="Frames">
          {grouped(r.frames!)} at {rateOf(r.rate)} / s
        </Row>
        <Row name="Size">{bytes(delivery.size)}</Row>
        <Row name="Read back, differs by">{degrees(rounded(r.max_drift_deg!))}</Row>
        <Row name="at the ends">{millimetres(rounded(r.max_drift_mm!))}</Row>
        {r.cost_deg !== undefined && (
          <>
            <Row name="Largest change">
              {degrees(r.cost_deg)} · {millimetres(r.cost_mm!)}
            </Row>
            <Row name="Fixes">{mendedCount(r.mended!, r.mended_deg!)}</Row>
          </>
        )}
      </dl>
    </li>
  )
}

export function DeliverPanel() {
  const clip = useBench((s) => s.clip)
  const queries = useQueryClient()
  const native = clip ? rateOf(clip.rate) : ''
  const [rate, setRate] = useState(native)
  const [format, setFormat] = useState<'bvh' | 'json'>('bvh')
  const [pattern, setPattern] = useState('{character}_{action}_v{version:03}')
  const [character, setCharacter] = useState(tidy(clip?.skeleton ?? 'figure').toLowerCase())
  const [action, setAction] = useState(tidy(clip?.take_name ?? 'take').toLowerCase())
  const [version, setVersion] = useState<number | null>(null)
  const [props, setProps] = useState(true)
  const [job, setJob] = useState<number | null>(null)
  const [trouble, setTrouble] = useState<string | null>(null)

  const path = { clip_id: clip?.id ?? 0 }
  const deliveries = useQuery({
    queryKey: ['deliveries', path.clip_id],
    queryFn: () => answer(client.GET('/api/clips/{clip_id}/deliveries', { params: { path } })),
  })
  const running = useQuery({
    queryKey: ['job', job],
    enabled: job !== null,
    refetchInterval: 300,
    queryFn: () => answer(client.GET('/api/jobs/{job_id}', { params: { path: { job_id: job! } } })),
  })
  const state = running.data?.state
  useEffect(() => {
    if (job === null || !state || state === 'queued' || state === 'running') return
    if (state === 'failed') setTrouble(running.data?.message ?? 'The delivery failed.')
    if (state === 'done') {
      notify(`${running.data?.title} is delivered, and read back.`)
      setVersion(null)
    }
    setJob(null)
    void queries.invalidateQueries({ queryKey: ['deliveries'] })
  }, [state, job, queries, running.data])

  const typed = { format, pattern, character, action, version }
  const named = useQuery({
    queryKey: ['delivery name', path.clip_id, typed, deliveries.data?.length],
    enabled: pattern.trim() !== '',
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: () =>
      answer(
        client.POST('/api/clips/{clip_id}/deliveries/name', { params: { path }, body: typed }),
      ),
  })
  if (!clip) return null
  const deliver = async () => {
    setTrouble(null)
    const [first, last] = transport.range
    try {
      const started = await answer(
        client.POST('/api/clips/{clip_id}/deliveries', {
          params: { path },
          body: {
            revision: clip.head.id,
            format,
            rate: rate === native ? clip.rate : RATES[rate]!,
            first,
            last,
            pattern,
            character,
            action,
            version,
            props: format === 'bvh' && props,
          },
        }),
      )
      setJob(started.id)
    } catch (problem) {
      setTrouble((problem as Error).message)
    }
  }
  const rates = RATES[native] ? Object.keys(RATES) : [native, ...Object.keys(RATES)]
  return (
    <Panel
      title="Deliver"
      lead="A file of the range on the time strip, read back by the server and compared with the clip."
      actions={
        job === null ? (
          <Button kind="primary" onClick={() => void deliver()}>
            Deliver
          </Button>
        ) : (
          <>
            <Button
              onClick={() =>
                void client.POST('/api/jobs/{job_id}/cancel', {
                  params: { path: { job_id: job } },
                })
              }
            >
              Cancel
            </Button>
            <Button kind="primary" disabled>
              {Math.round(100 * (running.data?.progress ?? 0))} %
            </Button>
          </>
        )
      }
    >
      {trouble && <Trouble>{trouble}</Trouble>}
      <Field label="Format">
        <select
          className={inputLook}
          value={format}
          onChange={(e) => setFormat(e.target.value as 'bvh' | 'json')}
        >
          <option value="bvh">BVH, a key on each frame</option>
          <option value="json">Clip JSON, curves kept</option>
        </select>
      </Field>
      <div className="grid grid-cols-2 gap-2">
        <Field label="Frames a second">
          <select className={inputLook} value={rate} onChange={(e) => setRate(e.target.value)}>
            {rates.map((r) => (
              <option key={r}>{r}</option>
            ))}
          </select>
        </Field>
        <Field label="Version">
          <input
            type="number"
            min={1}
            className={`${inputLook} num`}
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
      <div className="grid grid-cols-2 gap-2">
        <Field label="Character">
          <input
            className={inputLook}
            value={character}
            onChange={(e) => setCharacter(e.target.value)}
          />
        </Field>
        <Field label="Action">
          <input className={inputLook} value={action} onChange={(e) => setAction(e.target.value)} />
        </Field>
      </div>
      <Field label="Name pattern">
        <input
          className={`${inputLook} num`}
          value={pattern}
          onChange={(e) => setPattern(e.target.value)}
        />
      </Field>
      <p role="status" className="num break-all" data-testid="file-name">
        {named.error ? (
          <span className="text-bad">{named.error.message}</span>
        ) : (
          <>
            {named.data?.name ?? '…'}
            {named.data?.taken && <span className="text-bad"> is delivered already</span>}
          </>
        )}
      </p>
      {format === 'bvh' && clip.props.length > 0 && (
        <Check on={props} onChange={setProps}>
          Props as joints of their own roots
        </Check>
      )}
      {deliveries.data && deliveries.data.length > 0 && (
        <section>
          <h3 className="mb-1 font-semibold text-ink-2">Delivered</h3>
          <ul className="flex flex-col gap-2">
            {deliveries.data.map((d) => (
              <Report key={d.id} delivery={d} />
            ))}
          </ul>
        </section>
      )}
    </Panel>
  )
}
