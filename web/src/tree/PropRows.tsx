/** The clip's props under their own heading: a press shows a prop's curves, a channel's its own. */
import { ChevronDown, ChevronRight, Pencil } from 'lucide-react'
import { selectChannels, setStep } from '../actions/choose'
import { openProp, type Prop } from '../actions/props'
import { axisOf, type ChannelKey, channelTitle, splitKey } from '../evaluation/curves'
import { channelsOfProp, ofProp } from '../evaluation/owners'
import { useBench } from '../view/bench'

function PropRow({ prop, chosen }: { prop: Prop; chosen: readonly ChannelKey[] }) {
  const own = channelsOfProp(prop.id)
  const open = own.some((key) => chosen.includes(key))
  const pick = (keys: ChannelKey[], add: boolean) => {
    const rest = chosen.filter((key) => !keys.includes(key))
    selectChannels(!add ? keys : rest.length < chosen.length ? rest : [...chosen, ...keys])
  }
  return (
    <li>
      <div className={`flex h-6 items-center hover:bg-sunk ${open ? 'bg-sunk font-semibold' : ''}`}>
        <button
          type="button"
          aria-expanded={open}
          className="flex min-w-0 flex-1 items-center gap-1 px-1.5 text-left"
          onClick={(e) => {
            openProp(prop.id)
            pick(own, e.shiftKey || e.ctrlKey || e.metaKey)
          }}
        >
          {open ? <ChevronDown size={12} /> : <ChevronRight size={12} className="text-ink-3" />}
          <span className="flex-1 truncate">{prop.name}</span>
          <span className="font-normal text-ink-3">{prop.shape}</span>
        </button>
        <button
          type="button"
          aria-label={`Change ${prop.name}`}
          title="Its name, shape, size and what leads it"
          className="grid h-6 w-6 place-items-center text-ink-3 hover:text-ink"
          onClick={() => {
            openProp(prop.id)
            setStep('plant')
          }}
        >
          <Pencil size={12} />
        </button>
      </div>
      {open && (
        <ul aria-label={`Channels of ${prop.name}`}>
          {own.map((key) => {
            const axis = axisOf(key)
            const on = chosen.includes(key)
            return (
              <li key={key}>
                <button
                  type="button"
                  aria-pressed={on}
                  className={`flex h-6 w-full items-center gap-2 pr-1 pl-6 text-left hover:bg-sunk ${on ? 'font-semibold' : 'text-ink-2'}`}
                  onClick={(e) => pick([key], e.shiftKey || e.ctrlKey || e.metaKey)}
                >
                  <span
                    data-axis={axis.toUpperCase()}
                    className="num font-semibold before:content-[attr(data-axis)]"
                    style={{ color: `var(--${axis})` }}
                  />
                  {channelTitle(splitKey(key).channel)}
                </button>
              </li>
            )
          })}
        </ul>
      )}
    </li>
  )
}

export function PropRows({ props }: { props: readonly Prop[] }) {
  const chosen = useBench((s) => s.channels)
  const shown = chosen.some(ofProp)
  return (
    <section
      aria-label="Props of the clip"
      className={`shrink-0 overflow-y-auto border-rule-2 border-t text-[12px] ${shown ? 'max-h-56' : 'max-h-24'}`}
    >
      <h2 className="px-2 pt-1 font-semibold text-ink-2">Props</h2>
      <ul>
        {props.map((prop) => (
          <PropRow key={prop.id} {...{ prop, chosen }} />
        ))}
      </ul>
    </section>
  )
}
