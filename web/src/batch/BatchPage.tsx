/** A batch: one recipe on many takes, its progress and what came of each in one table. */
import { useQuery, useQueryClient } from '@tanstack/react-query'
import { Link, useParams } from 'react-router'
import { mendedCount } from '../actions/account'
import { answer, client, type Schemas } from '../api/client'
import { findingsText } from '../shelf/TakeCard'
import { Button } from '../ui/controls'
import { counted, degrees, grouped, millimetres } from '../ui/numbers'
import { SubPage } from '../ui/SubPage'
import { WaitingCell } from '../ui/WaitingCell'

type Row = Schemas['BatchRowOut']
type Counts = Record<string, number>

/** What a finished row's job says. */
interface Result {
  clip: number
  findings_before: Counts
  findings_after: Counts
  keys_before: number
  keys_after: number
  cost_deg: number
  cost_mm: number
  mended: number
  mended_deg: number
}

const open = (row: Row) => row.state === 'queued' || row.state === 'running'
const total = (counts: Counts) =>
  Object.entries(counts).reduce((sum, [kind, n]) => (kind === 'idle' ? sum : sum + n), 0)

function Cells({ row }: { row: Row }) {
  if (row.state !== 'done') return <WaitingCell {...row} state={row.state} span={5} />
  const r = row.result as unknown as Result
  return (
    <>
      <td className="num text-right">
        {total(r.findings_before)} → <b>{total(r.findings_after)}</b>
      </td>
      <td className="max-w-64 text-[12px] text-ink-2">{findingsText(r.findings_after, 3)}</td>
      <td className="num text-right">
        {grouped(r.keys_before)} → <b>{grouped(r.keys_after)}</b>
      </td>
      <td className="num text-right">
        {degrees(r.cost_deg)} · {millimetres(r.cost_mm)}
      </td>
      <td className="num text-right">{mendedCount(r.mended, r.mended_deg)}</td>
    </>
  )
}

export function BatchPage() {
  const { batchId } = useParams()
  const queries = useQueryClient()
  const path = { batch_id: Number(batchId) }
  const batch = useQuery({
    queryKey: ['batch', path.batch_id],
    queryFn: () => answer(client.GET('/api/batches/{batch_id}', { params: { path } })),
    refetchInterval: (query) => (query.state.data?.rows.some(open) ? 400 : false),
  })
  const cancel = async () => {
    await client.POST('/api/batches/{batch_id}/cancel', { params: { path } })
    void queries.invalidateQueries({ queryKey: ['batch'] })
  }
  const rows = batch.data?.rows ?? []
  const left = rows.filter(open).length
  const count = (state: Row['state']) => rows.filter((r) => r.state === state).length
  return (
    <SubPage
      title={batch.data ? `Recipe ${batch.data.name} on ${counted(rows.length, 'take')}` : 'Batch'}
      actions={left > 0 && <Button onClick={() => void cancel()}>Cancel what is left</Button>}
      className="gap-4"
    >
      {batch.isError && (
        <p role="alert" className="text-bad">
          {batch.error.message}
        </p>
      )}
      {batch.data && (
        <>
          <p className="text-ink-2">{batch.data.told.join(' · ')}</p>
          <p role="status" className="font-semibold">
            {left > 0
              ? `${rows.length - left} of ${rows.length} ended`
              : `${count('done')} done, ${count('failed')} failed, ${count('cancelled')} cancelled`}
          </p>
          <table className="w-full border-collapse rounded-md border border-rule-2 bg-raised [&_td]:px-3 [&_td]:py-2 [&_th]:px-3 [&_th]:py-2 [&_th]:font-normal [&_th]:text-ink-3">
            <thead>
              <tr className="border-rule-2 border-b">
                <th className="text-left">take</th>
                <th className="text-right">findings</th>
                <th className="text-left">what is left</th>
                <th className="text-right">keys</th>
                <th className="text-right">largest change</th>
                <th className="text-right">fixes</th>
                <th>
                  <span className="sr-only">opened</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {rows.map((row) => (
                <tr key={row.job} className="border-rule border-b last:border-b-0">
                  <td className="font-semibold">{row.name}</td>
                  <Cells row={row} />
                  <td className="text-right">
                    {row.state === 'done' && (
                      <Link
                        className="inline-flex h-6 items-center underline"
                        to={`/clip/${(row.result as unknown as Result).clip}`}
                      >
                        Open
                      </Link>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
          <p className="text-ink-3">
            Each take is done whole or not at all; the recipe's lines stand in its clip and can be
            undone there.
          </p>
        </>
      )}
    </SubPage>
  )
}
