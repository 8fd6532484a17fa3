/** What an operation did or would do, in numbers: its report, drift, findings before and after. */

import { countsOf } from '../../actions/findings'
import { useCatalogue } from '../../sync/catalogue'
import { Row } from '../../ui/controls'
import { degrees, grouped, millimetres, rounded } from '../../ui/numbers'
import type { Preview } from '../../view/bench'
import { useBench } from '../../view/bench'

/** A report's number by its name: "jitter_after_deg" is degrees, "gaps" a count. */
export function figure(name: string, value: number): string {
  if (name.endsWith('_deg')) return degrees(value)
  if (name.endsWith('_mm')) return millimetres(value)
  if (name.endsWith('_times')) return `${value.toPrecision(3)} ×`
  if (name.endsWith('_percent')) return `${value.toFixed(2)} %`
  return Number.isInteger(value) ? grouped(value) : value.toPrecision(3)
}

const named = (name: string) => {
  const text = name.replace(/_(deg|mm|percent|times)$/, '').replaceAll('_', ' ')
  return text[0]!.toUpperCase() + text.slice(1)
}

/** Rows of a report; what has a before and an after is one row. */
export function ReportRows({ report }: { report: Record<string, unknown> }) {
  const rows = Object.entries(report).filter(([, v]) => typeof v === 'number') as [string, number][]
  const told = typeof report.told === 'string' && (
    <Row key="told" name="Left">
      {report.told}
    </Row>
  )
  return [
    told,
    ...rows.map(([name, value]) => {
      if (name.includes('_after') && name.replace('_after', '_before') in report) return null
      if (name === 'keyed_skipped' && value === 0) return null
      const after = report[name.replace('_before', '_after')]
      if (name.includes('_before') && typeof after === 'number')
        return (
          <Row key={name} name={named(name.replace('_before', ''))}>
            {figure(name, value)} → <b>{figure(name, after)}</b>
          </Row>
        )
      return (
        <Row key={name} name={named(name)}>
          {figure(name, value)}
        </Row>
      )
    }),
  ]
}

export function PreviewNumbers({ preview }: { preview: Preview }) {
  const findings = useBench((s) => s.findings)
  const kinds = useCatalogue((s) => s.kinds)
  const { whole } = preview
  if (!whole) return <p className="text-ink-3">Measuring the whole clip …</p>
  const before = countsOf(findings)
  const after = whole.findings ?? before
  const changed = kinds.filter((k) => (before[k.name] ?? 0) !== (after[k.name] ?? 0))
  return (
    <dl data-testid="preview-numbers">
      <ReportRows report={whole.report} />
      {whole.drift && (
        <>
          <Row name="Drift, largest">{degrees(rounded(whole.drift.max_deg))}</Row>
          <Row name="Drift at the ends">{millimetres(rounded(whole.drift.max_mm))}</Row>
        </>
      )}
      {changed.map((k) => (
        <Row key={k.name} name={`Findings: ${k.plural}`}>
          {before[k.name] ?? 0} → <b>{after[k.name] ?? 0}</b>
        </Row>
      ))}
    </dl>
  )
}
