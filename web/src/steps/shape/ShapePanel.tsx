/** Shape: keys by hand, and whole curves by amount, timing, loops and pose. */
import { useEffect, useState } from 'react'
import { useBench } from '../../clip/bench'
import { useCatalogue } from '../../clip/catalogue'
import { countsOf } from '../../clip/findings'
import { transport } from '../../clip/transport'
import { Tabs } from '../../ui/controls'
import { OperationCard } from '../operation/OperationCard'
import { useOpenCard } from '../operation/openCard'
import { Panel } from '../Panel'
import { CyclesButton } from './CyclesButton'
import { KeysPart } from './KeysPart'

const PARTS = [
  ['amount', 'Amount'],
  ['timing', 'Timing'],
  ['loops', 'Loops'],
  ['pose', 'Pose'],
] as const

/** Parameters that the bench itself says: the range of the time strip, now. */
const HIDDEN: Record<string, string[]> = {
  clamp: ['feet'],
  repeat: ['first', 'last'],
  lean: ['frame'],
}
const LIVE: Record<string, () => Record<string, unknown>> = {
  repeat: () => ({ first: transport.range[0], last: transport.range[1] }),
  lean: () => ({ frame: transport.frame }),
}

/** These work on the whole clip: they have no scope. */
const UNSCOPED = new Set(['repeat'])

function Cards({ part }: { part: string }) {
  const operations = useCatalogue((s) => s.operations)
  const findings = useBench((s) => s.findings)
  const stuck = countsOf(findings)['stuck key'] ?? 0
  // Clamping is an amount too, though it belongs to Calm.
  const clamp = part === 'amount' ? operations.filter((o) => o.name === 'clamp') : []
  const here = [...operations.filter((o) => o.part === part), ...clamp]
  return (
    <div className="flex flex-col gap-1.5">
      {here.map((o) => (
        <OperationCard
          key={o.name}
          name={o.name}
          count={o.name === 'flow' ? stuck : undefined}
          scoped={!UNSCOPED.has(o.name)}
          where="shown"
          hidden={HIDDEN[o.name] ?? []}
          live={LIVE[o.name]}
        />
      ))}
      {part === 'loops' && <CyclesButton />}
    </div>
  )
}

export function ShapePanel() {
  const open = useOpenCard((s) => s.open)
  const operations = useCatalogue((s) => s.operations)
  const wanted = operations.find((o) => o.name === open && o.step === 'shape')?.part
  const [tab, setTab] = useState<string>(wanted || 'keys')
  // A finding leads to the card that mends it.
  useEffect(() => {
    if (wanted) setTab(wanted)
  }, [wanted])
  return (
    <Panel
      title="Shape"
      lead="Curves by hand, and whole curves at once. Each change can be undone."
    >
      <Tabs
        label="Parts of Shape"
        shown={tab}
        onShow={setTab}
        tabs={[
          { name: 'keys', title: 'Keys', content: <KeysPart /> },
          ...PARTS.map(([name, title]) => ({ name, title, content: <Cards part={name} /> })),
        ]}
      />
    </Panel>
  )
}
