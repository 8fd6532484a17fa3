/** Chains set by hand: for figures that are no human body, or a tail, a rope, a trunk. */
import { X } from 'lucide-react'
import { useState } from 'react'
import type { Schemas } from '../../api/client'
import { useRetargeting, wish } from '../../sync/retargeting'
import { Button } from '../../ui/controls'

type Figure = Schemas['FigureOut']

/** A joint and all that it hangs on. */
function above({ names, parents }: Figure, name: string): string[] {
  const out: string[] = []
  for (let k = names.indexOf(name); k >= 0; k = parents[k]!) out.push(names[k]!)
  return out
}

function Pair({
  figure,
  whose,
  ends,
  onChange,
}: {
  figure: Figure
  whose: string
  ends: [string, string]
  onChange: (ends: [string, string]) => void
}) {
  const field = 'h-6 min-w-0 flex-1 rounded-[3px] border border-rule-2 bg-paper px-1 text-ink'
  // What a chain ends in says where it can begin.
  const tops = ends[1] ? above(figure, ends[1]).reverse() : figure.names
  return (
    <div className="flex items-center gap-1.5">
      <span className="w-16 shrink-0">{whose}</span>
      <select
        aria-label={`First joint of the chain, ${whose}`}
        className={field}
        value={ends[0]}
        onChange={(e) => onChange([e.target.value, ends[1]])}
      >
        <option value="">from …</option>
        {tops.map((n) => (
          <option key={n}>{n}</option>
        ))}
      </select>
      <select
        aria-label={`Last joint of the chain, ${whose}`}
        className={field}
        value={ends[1]}
        onChange={(e) => {
          const low = e.target.value
          onChange([low && above(figure, low).includes(ends[0]) ? ends[0] : '', low])
        }}
      >
        <option value="">to …</option>
        {figure.names.map((n) => (
          <option key={n}>{n}</option>
        ))}
      </select>
    </div>
  )
}

const NONE: [string, string] = ['', '']

export function Chains({ map }: { map: Schemas['MapOut'] }) {
  const chains = useRetargeting((s) => s.wishes.chains)
  const [open, setOpen] = useState(false)
  const [source, setSource] = useState(NONE)
  const [target, setTarget] = useState(NONE)
  const whole = [...source, ...target].every((name) => name)
  const add = () => {
    wish({ chains: [...chains, { source, target }] })
    setSource(NONE)
    setTarget(NONE)
    setOpen(false)
  }
  return (
    <section aria-label="Chains by hand" className="flex flex-col gap-1.5 text-ink-2">
      {chains.map((c, k) => (
        <div
          key={`${c.source}/${c.target}`}
          className="flex items-center justify-between gap-2 text-[12px]"
        >
          <span className="min-w-0 truncate">
            {c.target.join(' … ')} <span className="text-ink-3">follows</span>{' '}
            {c.source.join(' … ')}
          </span>
          <button
            type="button"
            aria-label={`Delete the chain onto ${c.target.join(' to ')}`}
            className="grid size-6 shrink-0 place-items-center text-ink-3 hover:text-ink"
            onClick={() => wish({ chains: chains.filter((_, n) => n !== k) })}
          >
            <X size={12} />
          </button>
        </div>
      ))}
      {open ? (
        <>
          <Pair figure={map.source} whose="this clip" ends={source} onChange={setSource} />
          <Pair figure={map.target} whose="the other" ends={target} onChange={setTarget} />
          <div className="flex gap-1.5 [&>button]:flex-1">
            <Button onClick={() => setOpen(false)}>Leave it</Button>
            <Button kind="primary" disabled={!whole} onClick={add}>
              Let it follow
            </Button>
          </div>
        </>
      ) : (
        <Button onClick={() => setOpen(true)}>Set a chain by hand</Button>
      )}
    </section>
  )
}
