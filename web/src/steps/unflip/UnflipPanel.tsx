/** Unflip: continuous curves, true jumps mended on request, better rotation orders. */
import { useEffect, useState } from 'react'
import { countsOf, goTo, measuredNow, sizeOf } from '../../actions/findings'
import { answer, client, type Schemas } from '../../api/client'
import { useCatalogue } from '../../sync/catalogue'
import { cancelPreview, startPreview } from '../../sync/previews'
import { apply } from '../../sync/write'
import { Button, Row } from '../../ui/controls'
import { degrees, millimetres, rounded } from '../../ui/numbers'
import { useBench } from '../../view/bench'
import { useOpenCard } from '../../view/openCard'
import { transport } from '../../view/transport'
import { OperationCard } from '../operation/OperationCard'
import { ReportRows } from '../operation/Outcome'
import { chosen, ParamForm, type Params } from '../operation/ParamForm'
import { beginning, ScopeChoice, scopeOf } from '../operation/ScopeChoice'
import { Panel, Trouble } from '../Panel'

const MOST_LISTED = 60

function Places({ kind }: { kind: string }) {
  const findings = useBench((s) => s.findings)
  const title = useCatalogue((s) => s.kinds.find((k) => k.name === kind)?.plural)
  const list = findings?.filter((f) => f.kind === kind && !f.accepted) ?? []
  if (list.length === 0) return null
  return (
    <section>
      <h3 className="mb-1 font-semibold text-ink-2 first-letter:uppercase">{title}</h3>
      <ul className="max-h-32 overflow-y-auto rounded-[3px] border border-rule bg-paper">
        {list.slice(0, MOST_LISTED).map((f) => (
          <li key={`${f.joint}/${f.channel}/${f.first}`}>
            <button
              type="button"
              className="flex h-6 w-full items-center justify-between gap-2 px-2 text-left hover:bg-sunk"
              onClick={() => goTo(f)}
            >
              <span className="truncate">
                {f.joint} {f.channel && `turn ${f.channel[1]!.toUpperCase()}`}
              </span>
              <span className="num text-ink-3">
                {kind === 'snap' && `${sizeOf(f)} · `}
                {f.first}
              </span>
            </button>
          </li>
        ))}
      </ul>
      {list.length > MOST_LISTED && (
        <p className="mt-1 text-ink-3">and {list.length - MOST_LISTED} more</p>
      )}
    </section>
  )
}

/** Strain: degrees of channel that one degree of turn can cost. */
const strain = (v: number) => (v > 999 ? '> 999' : v.toFixed(v < 10 ? 2 : 0))

/** A change is worth its while from a third of the strain on. */
function advice(order: string, ratings: Schemas['OrderRatingOut'][]): string {
  const gain = ratings.find((r) => r.order === order)!.strain / ratings[0]!.strain
  return gain >= 3
    ? `${ratings[0]!.order} is worth it, ${strain(gain)} × less strain`
    : `${order} can stay, the best gains ${strain(gain)} ×`
}

/** All six orders of the selected joints, the calmest first. */
function OrdersTable() {
  const clip = useBench((s) => s.clip)
  const joints = useBench((s) => s.joints)
  const [rated, setRated] = useState<Schemas['JointOrdersOut'][]>([])
  const head = clip?.head.id
  const asked = joints.slice(0, 4).join(',')
  useEffect(() => {
    if (!clip || head === undefined || !asked) return
    let current = true
    const params = { path: { clip_id: clip.id }, query: { revision: head, joints: asked } }
    answer(client.GET('/api/clips/{clip_id}/orders', { params }))
      .then((got) => current && setRated(got))
      .catch(() => current && setRated([]))
    return () => {
      current = false
    }
  }, [clip, head, asked])
  if (rated.length === 0)
    return <p className="text-ink-3">Select a joint with three turns to rate its orders.</p>
  return (
    <div className="flex flex-col gap-2">
      {rated.map(({ joint, order, ratings }) => (
        <table key={joint} className="num w-full text-right">
          <caption className="pb-1 text-left font-sans text-ink-2">
            <b>{joint}</b>: {advice(order, ratings)}
          </caption>
          <thead className="text-ink-3">
            <tr>
              <th className="text-left font-normal">order</th>
              <th className="font-normal" title="degrees of channel a degree of turn can cost">
                strain
              </th>
              <th className="font-normal">nearest</th>
            </tr>
          </thead>
          <tbody>
            {ratings.map((r, k) => (
              <tr key={r.order} className={r.order === order ? 'font-semibold' : ''}>
                <td className="text-left">
                  {r.order}
                  <span className="ml-2 font-sans text-ink-3">
                    {r.order === order ? 'now' : k === 0 ? 'best' : ''}
                  </span>
                </td>
                <td>{strain(r.strain)} ×</td>
                <td>{r.nearest_deg.toFixed(1)}°</td>
              </tr>
            ))}
          </tbody>
        </table>
      ))}
    </div>
  )
}

function Choices({ values, onChange }: { values: Params; onChange: (values: Params) => void }) {
  const operation = useCatalogue((s) => s.operations.find((o) => o.name === 'unflip'))
  if (!operation) return null
  return (
    <>
      <ParamForm operation={operation} values={values} onChange={onChange} />
      <Button onClick={() => onChange({ ...values, begin_frame: transport.frame })}>
        Begin in the solution of now
      </Button>
    </>
  )
}

export function UnflipPanel() {
  const findings = useBench((s) => s.findings)
  const preview = useBench((s) => s.preview)
  const trouble = useBench((s) => s.previewTrouble)
  const saving = useBench((s) => s.saving)
  const operation = useCatalogue((s) => s.operations.find((o) => o.name === 'unflip'))
  const [values, setValues] = useState<Params>({})
  const at = useOpenCard((s) => (s.open === 'unflip' ? s.at : null))
  const [scope, setScope] = useState(() => beginning('all', at))
  useEffect(() => setScope(beginning('all', at)), [at])
  const known = useBench(measuredNow)
  const counts = countsOf(findings)
  const found = (counts.wrap ?? 0) + (counts.alternate ?? 0)
  const shown = preview?.operation === 'unflip'
  const whole = shown ? preview.whole : undefined
  const drift = whole?.drift
  const left = whole?.findings && (whole.findings.wrap ?? 0) + (whole.findings.alternate ?? 0)
  const asks = Object.keys(values).length > 0
  const show = (next: Params, within = scope) =>
    operation && void startPreview('unflip', chosen(operation, next), { scope: scopeOf(within) })
  return (
    <Panel
      title="Unflip"
      lead="The same poses with continuous curves. Turns that are true in the data stay."
      actions={
        <>
          {shown ? (
            <Button onClick={cancelPreview}>Discard</Button>
          ) : (
            <Button disabled={known && !found && !asks} onClick={() => show(values)}>
              Preview
            </Button>
          )}
          <Button
            kind="primary"
            disabled={(known && !found && !asks) || saving}
            onClick={() =>
              operation && void apply('unflip', chosen(operation, values), scopeOf(scope))
            }
          >
            {saving ? 'Applying …' : 'Apply unflip'}
          </Button>
        </>
      }
    >
      {trouble && <Trouble>{trouble}</Trouble>}
      {findings === null && <p className="text-ink-3">Looking for flips …</p>}
      {findings && (
        <dl>
          <Row name="Wraps of ±360°">{counts.wrap ?? 0}</Row>
          <Row name="Alternate solutions">{counts.alternate ?? 0}</Row>
          <Row name="Snaps: true jumps, they stay">{counts.snap ?? 0}</Row>
          {shown && (
            <>
              <Row name="Flips after">{left ?? '…'}</Row>
              <Row name="Drift, largest">{drift ? degrees(rounded(drift.max_deg)) : '…'}</Row>
              <Row name="Drift at the ends">{drift ? millimetres(rounded(drift.max_mm)) : '…'}</Row>
              {whole && 'gimbal_step_before_deg' in whole.report && (
                <ReportRows
                  report={Object.fromEntries(
                    Object.entries(whole.report).filter(([n]) => n.startsWith('gimbal')),
                  )}
                />
              )}
            </>
          )}
        </dl>
      )}
      {known && found === 0 && (
        <p className="rounded-[3px] border border-ok px-2.5 py-1.5 text-ok">
          No flips: every rotation channel is continuous. Go on to Calm.
        </p>
      )}
      <ScopeChoice
        scoped
        keyed={false}
        byHand={false}
        value={scope}
        ranged
        onChange={(next) => {
          setScope(next)
          if (shown) show(values, next)
        }}
      />
      <Choices
        values={values}
        onChange={(next) => {
          setValues(next)
          show(next)
        }}
      />
      <Places kind="wrap" />
      <Places kind="alternate" />
      <div className="flex flex-col gap-1.5">
        <OperationCard name="mend_snaps" count={counts.snap}>
          <Places kind="snap" />
        </OperationCard>
        <OperationCard name="reorder" count={counts.gimbal}>
          <OrdersTable />
        </OperationCard>
      </div>
    </Panel>
  )
}
