/** Inspect: what is measured to be wrong, when feet and hands are held, what the joints are. */

import { Tabs } from '../../ui/controls'
import { useBench } from '../../view/bench'
import { Panel } from '../Panel'
import { BodyPart } from './BodyPart'
import { ContactsPart } from './ContactsPart'
import { FindingsPart } from './FindingsPart'
import { useInspect } from './inspect'

export function InspectPanel() {
  const tab = useInspect((s) => s.tab)
  const open = useBench((s) => s.findings?.filter((f) => !f.accepted).length)
  return (
    <Panel title="Inspect" lead="What stands out, where, and by how much.">
      <Tabs
        label="Inspect"
        shown={tab}
        onShow={(next) => useInspect.setState({ tab: next as 'findings' })}
        tabs={[
          {
            name: 'findings',
            title: open === undefined ? 'Findings' : `Findings ${open}`,
            content: <FindingsPart />,
          },
          { name: 'contacts', title: 'Contacts', content: <ContactsPart /> },
          { name: 'body', title: 'Body', content: <BodyPart /> },
        ]}
      />
    </Panel>
  )
}
