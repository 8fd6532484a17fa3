/** What was delivered: a file a row, its proof in one line, and the report one press away. */
import { Download, FileText } from 'lucide-react'
import type { Schemas } from '../../api/client'
import { bytes, degrees, grouped, millimetres, rateOf, rounded } from '../../ui/numbers'

type Delivery = Schemas['DeliveryOut']

/** What reading a file back showed, in one line. */
export function proofText(delivery: Delivery): string {
  const r = delivery.report as Record<string, number> & { rate: number[] }
  return [
    `${grouped(r.frames!)} frames at ${rateOf(r.rate)} / s`,
    bytes(delivery.size),
    `read back within ${degrees(rounded(r.max_drift_deg!))} and ${millimetres(rounded(r.max_drift_mm!))}`,
  ].join(' · ')
}

export function FileLink({ delivery }: { delivery: Delivery }) {
  return (
    <a
      href={`/api/deliveries/${delivery.id}/file`}
      download={delivery.file_name}
      className="flex min-h-6 items-center gap-1.5 font-semibold underline decoration-rule-2 underline-offset-2 hover:decoration-ink"
    >
      <Download size={13} className="shrink-0" aria-hidden />
      <span className="break-all">{delivery.file_name}</span>
    </a>
  )
}

export const ReportLink = ({ handed }: { handed: number }) => (
  <a
    href={`/api/handed/${handed}/report`}
    target="_blank"
    rel="noreferrer"
    className="inline-flex min-h-6 items-center gap-1 underline"
  >
    <FileText size={13} aria-hidden /> Report
  </a>
)

/** Which clips a file holds, where these are several. */
export function Holds({ delivery }: { delivery: Delivery }) {
  const { clips } = delivery.report as { clips?: string[] }
  return clips ? <p className="text-ink-2">holds {clips.join(', ')}</p> : null
}

/** Where a copy went, or why it did not. */
export function PutOut({ delivery }: { delivery: Delivery }) {
  const { put_out: at, not_put_out: why } = delivery.report as Record<string, string | undefined>
  if (why) return <p className="text-bad">Not put into the output folder: {why}</p>
  return at ? <p className="break-all text-ink-2">also in the output folder: {at}</p> : null
}

function Changed({ delivery }: { delivery: Delivery }) {
  const { changed, delivery: number } = delivery
  if (changed?.length === 0) return null
  const since = number === null ? 'since' : `after delivery ${number}`
  return (
    <p className="text-warn">
      {changed
        ? `changed ${since}: ${changed.slice(0, 3).join(', ')}${changed.length > 3 ? ` and ${changed.length - 3} more` : ''}`
        : `changed ${since}: steps that the file holds were undone or changed`}
    </p>
  )
}

export function Delivered({ deliveries }: { deliveries: Delivery[] }) {
  return (
    <section>
      <h3 className="mb-1 font-semibold text-ink-2">Delivered</h3>
      <ul className="flex flex-col gap-2">
        {deliveries.map((d) => (
          <li key={d.id} className="rounded-[3px] border border-rule-2 bg-paper px-2.5 py-2">
            <FileLink delivery={d} />
            <p className="num text-ink-2">{proofText(d)}</p>
            <Holds delivery={d} />
            <Changed delivery={d} />
            <PutOut delivery={d} />
            <p className="flex items-baseline gap-3 text-ink-2">
              {d.delivery !== null && `Delivery ${d.delivery}, `}revision {d.revision}
              <span className="flex-1" />
              {d.handed !== null && <ReportLink handed={d.handed} />}
            </p>
          </li>
        ))}
      </ul>
    </section>
  )
}
