/** The map of joints: what is doubtful first, each joint with where it has its turn from. */
import { useState } from 'react'
import type { Schemas } from '../../api/client'
import { useRetargeting, wish } from '../../sync/retargeting'
import { Toggle } from '../../ui/controls'
import { counted } from '../../ui/numbers'
import { Chains } from './Chains'
import { MapPicture } from './MapPicture'

type Link = Schemas['LinkOut']

/** Confidence by the weight of the ink, and a word. */
const INK: Record<string, string> = {
  sure: 'text-ink-3',
  likely: 'text-ink-2',
  doubtful: 'font-semibold text-bad',
  follows: 'text-ink-2 italic',
}

/** Where a joint has its turn from, in words. */
function from({ sources, how, weights }: Link): string {
  if (!sources.length) return how === 'twist' ? 'a share of its limb’s twist' : 'unmapped'
  if (sources.length === 1) return sources[0]!
  const most = weights.indexOf(Math.max(...weights))
  return `about ${sources[most]}`
}

function LinkRow({ link, names }: { link: Link; names: string[] }) {
  const chosen = useRetargeting((s) => s.joint === link.target)
  const joints = useRetargeting((s) => s.wishes.joints)
  const single = link.sources.length === 1 ? link.sources[0]! : ''
  const many = link.sources.length > 1
  const set = (value: string) => {
    const { [link.target]: _, ...others } = joints
    wish({ joints: value === ' ' ? others : { ...others, [link.target]: value } })
  }
  return (
    <li
      className={`grid grid-cols-[1fr_auto] items-center gap-x-1.5 px-2 py-1 ${chosen ? 'bg-sunk' : ''}`}
    >
      <button
        type="button"
        aria-pressed={chosen}
        className="min-w-0 truncate text-left"
        title={link.target}
        onClick={() => useRetargeting.setState({ joint: chosen ? null : link.target })}
      >
        {link.target}
      </button>
      <select
        aria-label={`${link.target} has its turn from`}
        className="order-last col-span-2 h-6 w-full rounded-[3px] border border-rule-2 bg-paper px-1 text-ink"
        title={many ? `between ${link.sources.join(', ')}` : from(link)}
        value={many ? '*' : link.target in joints || single ? single : ''}
        onChange={(e) => set(e.target.value)}
      >
        {many && <option value="*">{from(link)}</option>}
        <option value="">
          {link.how === 'twist' ? from({ ...link, sources: [] }) : 'unmapped'}
        </option>
        {link.target in joints && <option value=" ">as it was found</option>}
        {names.map((n) => (
          <option key={n} value={n}>
            {n}
          </option>
        ))}
      </select>
      <span className={`text-right ${INK[link.word] ?? 'text-ink-3'}`}>
        {link.how === 'hand' ? 'by hand' : link.word === 'shares a twist' ? 'shared' : link.word}
      </span>
    </li>
  )
}

export function MapTable({ map }: { map: Schemas['MapOut'] }) {
  const [all, setAll] = useState(false)
  const [source, setSource] = useState<string | null>(null)
  const chosen = useRetargeting((s) => s.joint)
  const joints = useRetargeting((s) => s.wishes.joints)
  const mapped = map.links.filter((l) => l.sources.length)
  const asked = map.links.filter(
    (l) => l.word === 'doubtful' || l.word === 'follows' || l.how === 'hand' || l.target === chosen,
  )
  const rows = all ? map.links : asked
  const press = (target: string) => {
    useRetargeting.setState({ joint: target })
    if (source === null) return
    wish({ joints: { ...joints, [target]: source } })
    setSource(null)
  }
  return (
    <section aria-label="Map of joints" className="flex flex-col gap-2">
      <div className="flex items-center justify-between gap-2">
        <h3 className="font-semibold">
          {mapped.length} of {counted(map.links.length, 'joint')} mapped
        </h3>
        <Toggle on={all} onClick={() => setAll(!all)}>
          All joints
        </Toggle>
      </div>
      <MapPicture
        map={map}
        chosen={chosen}
        source={source}
        onTarget={press}
        onSource={(name) => setSource(source === name ? null : name)}
      />
      {source && <p className="text-ink-2">{source} is mapped to … press a joint of the target.</p>}
      {rows.length > 0 ? (
        <ul
          aria-label="Joints and where they have their turns from"
          className="max-h-[max(12rem,34vh)] shrink-0 overflow-y-auto rounded-[3px] border border-rule bg-paper text-[12px]"
        >
          {rows.map((link) => (
            <LinkRow key={link.target} link={link} names={map.source.names} />
          ))}
        </ul>
      ) : (
        <p className="text-ink-3">Every joint was recognised: there is nothing to check here.</p>
      )}
      <Chains map={map} />
      {map.unused.length > 0 && (
        <p className="text-[12px] text-ink-3" title={map.unused.join(', ')}>
          {counted(map.unused.length, 'joint')} of the source unmapped:{' '}
          {map.unused.slice(0, 3).join(', ')}
          {map.unused.length > 3 ? ' …' : ''}
        </p>
      )}
    </section>
  )
}
