/** A prop that changes hands at now: to a joint of this figure, or to a partner's. */
import { useState, useSyncExternalStore } from 'react'
import { handToPartner, usePartners } from '../../actions/partners'
import { handOver, type Prop } from '../../actions/props'
import type { Clip } from '../../evaluation/model'
import { Button, Select, Tip } from '../../ui/controls'
import { useBench } from '../../view/bench'
import { transport } from '../../view/transport'

const OWN = 'this figure'

export function HandOver({ clip, prop }: { clip: Clip; prop: Prop }) {
  const frame = useSyncExternalStore(transport.subscribe, () => transport.frame)
  const body = useBench((s) => s.body)
  const saving = useBench((s) => s.saving)
  const figures = usePartners((s) => s.figures)
  const partners = clip.partners.filter((p) => figures.has(p.digest))
  const [whose, setWhose] = useState(OWN)
  const [wanted, setWanted] = useState('')
  const partner = partners.find((p) => p.name === whose)
  const figure = partner && figures.get(partner.digest)
  const names = (figure ? figure.clip : clip).joints.map((j) => j.name)
  const roles = figure ? figure.roles : (body?.joints.map((j) => j.role) ?? [])
  const joint = names.includes(wanted) ? wanted : (names[roles.indexOf('left hand')] ?? names[0]!)
  return (
    <div className="flex flex-wrap items-center gap-1.5 text-ink-2">
      hand over to
      {partners.length > 0 && (
        <Select
          label="Whose hand it goes to"
          className="min-w-24 flex-1"
          value={partner ? whose : OWN}
          options={Object.fromEntries([OWN, ...partners.map((p) => p.name)].map((n) => [n, n]))}
          onChange={setWhose}
        />
      )}
      <Select
        label="Joint it is handed over to"
        className="min-w-32 flex-1"
        value={joint}
        options={Object.fromEntries(names.map((name) => [name, name]))}
        onChange={setWanted}
      />
      <Tip text="From now on it goes with that joint, as it lies to it now">
        <Button
          disabled={saving}
          onClick={() =>
            void (partner
              ? handToPartner(prop.name, partner, joint, frame)
              : handOver(prop, [joint]))
          }
        >
          Hand over at {frame}
        </Button>
      </Tip>
    </div>
  )
}
