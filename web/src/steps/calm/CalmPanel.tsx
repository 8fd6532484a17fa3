/** Calm: spikes gone, noise down, contacts still sharp; the clip cut, filled, tidied. */

import { countsOf } from '../../actions/findings'
import { useCatalogue } from '../../sync/catalogue'
import { useBench } from '../../view/bench'
import { OperationCard } from '../operation/OperationCard'
import { Panel } from '../Panel'

export function CalmPanel() {
  const findings = useBench((s) => s.findings)
  const operations = useCatalogue((s) => s.operations)
  const kinds = useCatalogue((s) => s.kinds)
  const counts = countsOf(findings)
  const open = (operation: string) =>
    kinds.filter((k) => k.remedy === operation).reduce((sum, k) => sum + (counts[k.name] ?? 0), 0)
  return (
    <Panel
      title="Calm"
      lead="Each works on dense channels as captured. Nothing is applied before you say so."
    >
      <div className="flex flex-col gap-1.5">
        {operations
          .filter((o) => o.step === 'calm')
          .map((o) => (
            <OperationCard
              key={o.name}
              name={o.name}
              count={open(o.name)}
              first={o.name === 'clamp' ? { feet: true } : {}}
            />
          ))}
      </div>
    </Panel>
  )
}
