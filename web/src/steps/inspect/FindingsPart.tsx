/** Findings in one list: sorted, narrowed, each leading to its place and its remedy. */
import { Check as Tick, Wrench } from 'lucide-react'
import { useMemo } from 'react'
import { type Finding, useBench } from '../../clip/bench'
import { useCatalogue } from '../../clip/catalogue'
import { channelTitle } from '../../clip/curves'
import { countsOf, goTo, mend, sizeOf } from '../../clip/findings'
import { apply } from '../../clip/write'
import { Button, Check, inputLook, Tip } from '../../ui/controls'
import { type Order, useInspect } from './inspect'

const MOST_LISTED = 400

const ORDERS: Record<Order, string> = {
  kind: 'by kind',
  frame: 'by time',
  size: 'worst first',
  joint: 'by joint',
}

function sorted(list: Finding[], order: Order, lanes: Map<string, number>): Finding[] {
  const lane = (f: Finding) => lanes.get(f.kind) ?? 99
  const by: Record<Order, (a: Finding, b: Finding) => number> = {
    kind: (a, b) => lane(a) - lane(b) || a.first - b.first,
    frame: (a, b) => a.first - b.first,
    size: (a, b) => b.severity - a.severity,
    joint: (a, b) => a.joint.localeCompare(b.joint) || a.first - b.first,
  }
  return [...list].sort(by[order])
}

const same = (f: Finding) => {
  const { kind, joint, channel, first, last } = f
  return { kind, joint, channel, first, last }
}

function accept(findings: Finding[], meant: boolean): void {
  void apply('accept', { findings: findings.map(same), ...(meant ? {} : { meant: false }) })
}

function Item({ finding }: { finding: Finding }) {
  const remedy = useCatalogue((s) => s.kinds.find((k) => k.name === finding.kind)?.remedy)
  const title = useCatalogue((s) => s.operations.find((o) => o.name === remedy)?.title)
  const { joint, channel, first, last, accepted } = finding
  return (
    <li className="group flex h-6 items-stretch hover:bg-sunk">
      <button
        type="button"
        className={`flex min-w-0 flex-1 items-center gap-1.5 pl-1.5 text-left ${accepted ? 'text-ink-3' : ''}`}
        onClick={() => goTo(finding)}
      >
        <span
          aria-hidden
          className={`h-3 w-1 shrink-0 ${accepted ? 'border border-rule-2' : finding.severity > 0.5 ? 'bg-bad' : 'bg-warn'}`}
          style={accepted ? {} : { opacity: 0.45 + 0.55 * finding.severity }}
        />
        <span className="min-w-0 flex-1 truncate">
          {joint}
          {channel && ` ${channelTitle(channel)}`}
        </span>
        <span className="num text-ink-2">{sizeOf(finding)}</span>
        <span className="num w-[74px] text-right text-ink-3">
          {first === last ? first : `${first}–${last}`}
        </span>
      </button>
      <span className="flex w-12 shrink-0">
        <Tip text={accepted ? 'Count it again' : 'It is meant: accept it'}>
          <Button
            kind="quiet"
            className="w-6 px-0"
            aria-label={`${accepted ? 'Reopen' : 'Accept'} ${finding.kind} ${joint} ${first}`}
            onClick={() => accept([finding], !accepted)}
          >
            <Tick size={14} className={accepted ? 'text-ok' : ''} />
          </Button>
        </Tip>
        {remedy && (
          <Tip text={`To its remedy: ${title}`}>
            <Button
              kind="quiet"
              className="w-6 px-0"
              aria-label={`Mend ${finding.kind} ${joint} ${first}`}
              onClick={() => mend(finding)}
            >
              <Wrench size={13} />
            </Button>
          </Tip>
        )}
      </span>
    </li>
  )
}

export function FindingsPart() {
  const findings = useBench((s) => s.findings)
  const kinds = useCatalogue((s) => s.kinds)
  const { kind, order, accepted } = useInspect()
  const counts = useMemo(() => countsOf(findings), [findings])
  const lanes = useMemo(() => new Map(kinds.map((k, n) => [k.name, n])), [kinds])
  if (!findings) return <p className="text-ink-3">Looking the clip over …</p>
  const listed = sorted(
    findings.filter(
      (f) => (kind ? f.kind === kind : f.kind !== 'idle') && (accepted || !f.accepted),
    ),
    order,
    lanes,
  )
  const meaning = kinds.find((k) => k.name === kind)?.meaning
  const chip = (name: string | null, text: string, count: number) => (
    <Button
      key={text}
      kind={kind === name ? 'on' : 'plain'}
      aria-pressed={kind === name}
      onClick={() => useInspect.setState({ kind: name })}
    >
      {text} <span className="num">{count}</span>
    </Button>
  )
  const shownKinds = kinds.filter((k) => counts[k.name] || k.name === kind)
  const total = Object.entries(counts).reduce((n, [k, c]) => (k === 'idle' ? n : n + c), 0)
  return (
    <>
      <fieldset aria-label="Kinds" className="flex flex-wrap gap-1">
        {chip(null, 'all but idle', total)}
        {shownKinds.map((k) => chip(k.name, k.plural, counts[k.name] ?? 0))}
      </fieldset>
      {meaning && <p className="text-ink-2 first-letter:uppercase">{meaning}.</p>}
      <div className="flex items-center justify-between gap-2">
        <select
          aria-label="Order of the findings"
          className={`${inputLook} h-6`}
          value={order}
          onChange={(e) => useInspect.setState({ order: e.target.value as Order })}
        >
          {Object.entries(ORDERS).map(([name, text]) => (
            <option key={name} value={name}>
              {text}
            </option>
          ))}
        </select>
        <Check on={accepted} onChange={(on) => useInspect.setState({ accepted: on })}>
          accepted too
        </Check>
      </div>
      {listed.length === 0 ? (
        <p className="rounded-[3px] border border-ok px-2.5 py-1.5 text-ok">
          {kind ? 'None of this kind.' : 'Nothing stands out any more.'}
        </p>
      ) : (
        <ul
          aria-label="Findings"
          className="min-h-24 flex-1 overflow-y-auto rounded-[3px] border border-rule bg-paper text-[12px]"
        >
          {listed.slice(0, MOST_LISTED).map((f, k) => (
            <ItemWithHead
              key={`${f.kind}/${f.joint}/${f.channel}/${f.first}`}
              finding={f}
              head={order === 'kind' && !kind && f.kind !== listed[k - 1]?.kind}
            />
          ))}
        </ul>
      )}
      {listed.length > MOST_LISTED && (
        <p className="text-ink-3">and {listed.length - MOST_LISTED} more: narrow by kind</p>
      )}
      {kind && counts[kind] ? (
        <Button
          onClick={() =>
            accept(
              listed.filter((f) => !f.accepted),
              true,
            )
          }
        >
          Accept all {counts[kind]} of this kind
        </Button>
      ) : null}
    </>
  )
}

function ItemWithHead({ finding, head }: { finding: Finding; head: boolean }) {
  const plural = useCatalogue((s) => s.kinds.find((k) => k.name === finding.kind)?.plural)
  return (
    <>
      {head && (
        <li className="border-rule border-b bg-raised px-1.5 pt-1 font-semibold text-ink-2">
          {plural}
        </li>
      )}
      <Item finding={finding} />
    </>
  )
}
