/** A delivery: many clips at once, how far each is, what came of it, and one zip of it all. */
import { useQuery, useQueryClient } from '@tanstack/react-query'
import { ArrowDown, ArrowUp, Download } from 'lucide-react'
import { useState } from 'react'
import { Link, useParams } from 'react-router'
import { answer, client, type Schemas } from '../api/client'
import { findingsText } from '../shelf/TakeCard'
import { FileLink, Holds, PutOut, proofText, ReportLink } from '../steps/deliver/Delivered'
import { Button } from '../ui/controls'
import { bytes, counted, degrees, grouped, millimetres, moment, rounded } from '../ui/numbers'
import { SubPage } from '../ui/SubPage'
import { WaitingCell } from '../ui/WaitingCell'

type Row = Schemas['HandedOut']

const open = (row: Row) => row.state === 'queued' || row.state === 'running'
const most = (row: Row, name: string) =>
  Math.max(0, ...row.files.map((f) => f.report[name] as number))
const size = (row: Row) => row.files.reduce((sum, f) => sum + f.size, 0)
const left = (row: Row) =>
  Object.entries(row.findings ?? {}).reduce(
    (sum, [kind, n]) => (kind === 'idle' ? sum : sum + n),
    0,
  )

const COLUMNS = {
  clip: { by: (a: Row, b: Row) => a.name.localeCompare(b.name), right: false },
  files: { by: (a: Row, b: Row) => a.files.length - b.files.length, right: false },
  size: { by: (a: Row, b: Row) => size(a) - size(b), right: true },
  'differs by': {
    by: (a: Row, b: Row) => most(a, 'max_drift_mm') - most(b, 'max_drift_mm'),
    right: true,
  },
  'findings left': { by: (a: Row, b: Row) => left(a) - left(b), right: false },
  keys: { by: (a: Row, b: Row) => (a.keys ?? 0) - (b.keys ?? 0), right: true },
}
type Column = keyof typeof COLUMNS

/** A file of another clip that holds this one too: ended, or to come. */
function Inside({ file, rows }: { file: Row['inside'][number]; rows: Row[] }) {
  const coming = rows.some((r) => r.id === file.handed && open(r))
  const told = `${file.name}, a file of ${file.clip}`
  return file.file === null && !coming ? (
    <p className="text-bad">{told}, is not delivered</p>
  ) : (
    <p className="text-ink-2">
      {coming ? 'goes into' : 'in'} {told}
    </p>
  )
}

function Cells({ row, rows }: { row: Row; rows: Row[] }) {
  if (row.state !== 'done') {
    const told = `unchanged since delivery ${row.unchanged}: not made again`
    return <WaitingCell {...row} state={row.state} span={5} told={told} />
  }
  return (
    <>
      <td>
        {row.files.map((f) => (
          <div key={f.id}>
            <FileLink delivery={f} />
            <p className="num text-[12px] text-ink-2">{proofText(f)}</p>
            <Holds delivery={f} />
            <PutOut delivery={f} />
          </div>
        ))}
        {row.inside.map((f) => (
          <Inside key={f.name} file={f} rows={rows} />
        ))}
        {row.refused.map((r) => (
          <p key={r.name} className="text-bad">
            {r.name} is not delivered: {r.why}
          </p>
        ))}
      </td>
      <td className="num whitespace-nowrap text-right">
        {row.files.length ? bytes(size(row)) : '–'}
      </td>
      <td className="num whitespace-nowrap text-right">
        {row.files.length
          ? `${degrees(rounded(most(row, 'max_drift_deg')))} · ${millimetres(rounded(most(row, 'max_drift_mm')))}`
          : '–'}
      </td>
      <td className="text-[12px] text-ink-2">{findingsText(row.findings ?? {}, 3)}</td>
      <td className="num text-right">{grouped(row.keys ?? 0)}</td>
    </>
  )
}

export function HandoverPage() {
  const { handoverId } = useParams()
  const queries = useQueryClient()
  const [by, setBy] = useState<Column | null>(null)
  const [down, setDown] = useState(false)
  const path = { handover_id: Number(handoverId) }
  const handover = useQuery({
    queryKey: ['handover', path.handover_id],
    queryFn: () => answer(client.GET('/api/handovers/{handover_id}', { params: { path } })),
    refetchInterval: (query) => (query.state.data?.clips.some(open) ? 400 : false),
  })
  const cancel = async () => {
    await client.POST('/api/handovers/{handover_id}/cancel', { params: { path } })
    void queries.invalidateQueries({ queryKey: ['handover'] })
  }
  const data = handover.data
  const rows = data?.clips ?? []
  const waiting = rows.filter(open).length
  const count = (state: Row['state']) => rows.filter((r) => r.state === state).length
  const shown = by ? rows.toSorted((a, b) => (down ? -1 : 1) * COLUMNS[by].by(a, b)) : rows
  const ended = (['done', 'unchanged', 'failed', 'cancelled'] as const)
    .filter((state) => state === 'done' || count(state))
    .map((state) => `${count(state)} ${state}`)
  return (
    <SubPage
      title={data ? `Delivery ${data.number}: ${counted(rows.length, 'clip')}` : 'Delivery'}
      actions={
        <>
          {waiting > 0 && <Button onClick={() => void cancel()}>Cancel what is left</Button>}
          {waiting === 0 && count('done') > 0 && (
            <a
              href={`/api/handovers/${path.handover_id}/zip`}
              download
              className="flex h-7 items-center gap-1.5 rounded-[3px] border border-signal bg-signal px-3 font-semibold text-on-signal hover:brightness-110"
            >
              <Download size={14} aria-hidden /> All of it as a zip
            </a>
          )}
        </>
      }
      className="gap-4"
    >
      {handover.isError && (
        <p role="alert" className="text-bad">
          {handover.error.message}
        </p>
      )}
      {data && (
        <>
          <p className="text-ink-2">
            {data.presets.join(' · ')} — by {data.author}, {moment(data.created)}
          </p>
          <p role="status" className="font-semibold">
            {waiting > 0 ? `${rows.length - waiting} of ${rows.length} ended` : ended.join(', ')}
          </p>
          <table className="w-full border-collapse rounded-md border border-rule-2 bg-raised [&_td]:px-3 [&_td]:py-2 [&_td]:align-top [&_th]:px-3 [&_th]:py-1 [&_th]:font-normal [&_th]:text-ink-2">
            <thead>
              <tr className="border-rule-2 border-b">
                {(Object.keys(COLUMNS) as Column[]).map((name) => (
                  <th
                    key={name}
                    aria-sort={by === name ? (down ? 'descending' : 'ascending') : 'none'}
                    className={COLUMNS[name].right ? 'text-right' : 'text-left'}
                  >
                    <button
                      type="button"
                      className="inline-flex min-h-6 items-center gap-1 hover:underline"
                      onClick={() => {
                        setDown(by === name && !down)
                        setBy(name)
                      }}
                    >
                      {name}
                      {by === name && (down ? <ArrowDown size={12} /> : <ArrowUp size={12} />)}
                    </button>
                  </th>
                ))}
                <th>
                  <span className="sr-only">opened</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {shown.map((row) => (
                <tr key={row.id} className="border-rule border-b last:border-b-0">
                  <td>
                    <span className="font-semibold">{row.name}</span>
                    <p className="whitespace-nowrap text-[12px] text-ink-2">
                      revision {row.revision}
                    </p>
                  </td>
                  <Cells row={row} rows={rows} />
                  <td className="whitespace-nowrap text-right">
                    {row.state === 'done' && (
                      <>
                        <ReportLink handed={row.id} />
                        <br />
                      </>
                    )}
                    <Link
                      className="inline-flex min-h-6 items-center underline"
                      to={`/clip/${row.clip}`}
                    >
                      Open
                    </Link>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
          <p className="text-ink-3">
            A file that is not what its clip plays is not delivered. The zip holds the files, their
            reports, and a manifest with the hash of each.
          </p>
        </>
      )}
    </SubPage>
  )
}
