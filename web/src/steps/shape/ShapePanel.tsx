/** Shape: keys by hand, and whole curves by amount, timing, loops and pose. */
import { useEffect, useState } from 'react'
import { countsOf } from '../../actions/findings'
import { useCatalogue } from '../../sync/catalogue'
import { Tabs } from '../../ui/controls'
import { useBench } from '../../view/bench'
import { useOpenCard } from '../../view/openCard'
import { OperationCard } from '../operation/OperationCard'
import { Panel } from '../Panel'
import { fromBench } from './fromBench'
import { KeysPart } from './KeysPart'
import { LayersPart } from './LayersPart'
import { PosePart } from './PosePart'
import { StoredPart } from './StoredPart'
import { TimePart } from './TimePart'

const PARTS = [
  ['amount', 'Amount'],
  ['timing', 'Spacing'],
  ['pose', 'Pose'],
] as const

/** Loops are a matter of time. */
const tabOf = (part: string): string => (part === 'loops' ? 'time' : part)

/** What the stage and its part do by hand needs no card. */
const BY_HAND = new Set(['key_pose', 'soft_offset'])

function Cards({ part }: { part: string }) {
  const operations = useCatalogue((s) => s.operations)
  const findings = useBench((s) => s.findings)
  const stuck = countsOf(findings)['stuck key'] ?? 0
  // Clamping is an amount too, though it belongs to Calm.
  const clamp = part === 'amount' ? operations.filter((o) => o.name === 'clamp') : []
  const here = [...operations.filter((o) => o.part === part && !BY_HAND.has(o.name)), ...clamp]
  return (
    <div className="flex flex-col gap-1.5">
      {here.map((o) => (
        <OperationCard
          key={o.name}
          name={o.name}
          count={o.name === 'flow' ? stuck : undefined}
          where={o.over_all ? 'all' : 'shown'}
          {...fromBench(o.name)}
        />
      ))}
    </div>
  )
}

export function ShapePanel() {
  const clip = useBench((s) => s.clip)
  const open = useOpenCard((s) => s.open)
  const operations = useCatalogue((s) => s.operations)
  const wanted = operations.find((o) => o.name === open && o.step === 'shape')?.part
  const [tab, setTab] = useState<string>(tabOf(wanted || 'keys'))
  // A finding leads to the card that mends it.
  useEffect(() => {
    if (wanted) setTab(tabOf(wanted))
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
          { name: 'layers', title: 'Layers', content: <LayersPart /> },
          { name: 'time', title: 'Time', content: <TimePart /> },
          ...PARTS.map(([name, title]) => ({
            name,
            title,
            content: (
              <>
                {name === 'pose' && <PosePart />}
                {name === 'pose' && clip && <StoredPart clip={clip} />}
                <Cards part={name} />
              </>
            ),
          })),
        ]}
      />
    </Panel>
  )
}
