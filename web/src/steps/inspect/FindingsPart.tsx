/** Findings in one list: sorted, narrowed, each leading to its place and its remedy. */
import { Check as Tick, Wrench } from 'lucide-react'
import { type FocusEvent, type KeyboardEvent, useEffect, useMemo, useRef, useState } from 'react'
import { countsOf, goTo, mend, sameFinding, sizeOf, useFinding } from '../../actions/findings'
import { channelTitle } from '../../evaluation/curves'
import type { Finding } from '../../evaluation/model'
import { useCatalogue } from '../../sync/catalogue'
import { apply } from '../../sync/write'
import { Button, Check, inputLook, Tip } from '../../ui/controls'
import { useBench } from '../../view/bench'
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

function Item({ finding, tab }: { finding: Finding; tab: boolean }) {
  const remedy = useCatalogue((s) => s.kinds.find((k) => k.name === finding.kind)?.remedy)
  const title = useCatalogue((s) => s.operations.find((o) => o.name === remedy)?.title)
  const here = useFinding((s) => sameFinding(s.at, finding))
  const row = useRef<HTMLLIElement>(null)
  const { kind, joint, channel, first, last, accepted } = finding
  useEffect(() => {
    if (here) row.current?.scrollIntoView({ block: 'nearest' })
  }, [here])
  return (
    <li
      ref={row}
      className={`group relative flex h-6 items-stretch pr-1.5 hover:bg-sunk ${here ? 'bg-sunk shadow-[inset_2px_0_0_var(--signal)]' : ''}`}
    >
      <button
        type="button"
        data-finding
        tabIndex={tab ? 0 : -1}
        aria-current={here ? 'true' : undefined}
        title={kind}
        className={`flex min-w-0 flex-1 items-center gap-1.5 pl-1.5 text-left ${accepted ? 'text-ink-3' : ''}`}
        onClick={() => goTo(finding)}
        onKeyDown={(e) => {
          if (e.ctrlKey || e.metaKey || e.altKey) return
          if (e.key.toLowerCase() === 'a') accept([finding], !accepted)
          else if (e.key.toLowerCase() === 'm' && remedy) mend(finding)
          else return
          e.preventDefault()
          e.stopPropagation()
        }}
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
        <span className="num min-w-[52px] text-right text-ink-3">
          {first === last ? first : `${first}–${last}`}
        </span>
      </button>
      <span className="absolute inset-y-0 right-0 flex w-12 bg-sunk opacity-0 focus-within:opacity-100 group-hover:opacity-100 group-focus-within:opacity-100">
        <Tip text={accepted ? 'Count it again' : 'It is meant: accept it'}>
          <Button
            kind="quiet"
            className="w-6 px-0"
            tabIndex={-1}
            aria-label={`${accepted ? 'Reopen' : 'Accept'} ${kind} ${joint} ${first}`}
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
              tabIndex={-1}
              aria-label={`Mend ${kind} ${joint} ${first}`}
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

/** The keyboard on a list of findings: arrows walk it, and where one goes the next has its place. */
function useListKeys(count: number) {
  const list = useRef<HTMLUListElement>(null)
  const [at, setAt] = useState(0)
  const held = useRef(false)
  const items = () => [...(list.current?.querySelectorAll<HTMLElement>('[data-finding]') ?? [])]
  // What had the keyboard was accepted and has gone: what came in its place has it now.
  // biome-ignore lint/correctness/useExhaustiveDependencies: of the list's length alone
  useEffect(() => {
    if (held.current && document.activeElement === document.body)
      items()[Math.min(at, count - 1)]?.focus()
  }, [count])
  return {
    list,
    at: Math.min(at, Math.max(count - 1, 0)),
    keys: {
      onFocus: (e: FocusEvent<HTMLElement>) => {
        held.current = true
        const found = items().indexOf(e.target)
        if (found >= 0) setAt(found)
      },
      onBlur: (e: FocusEvent<HTMLElement>) => {
        if (e.relatedTarget) held.current = false
      },
      onKeyDown: (e: KeyboardEvent<HTMLElement>) => {
        const own = items()
        const to = { ArrowDown: at + 1, ArrowUp: at - 1, Home: 0, End: own.length - 1 }[e.key]
        if (to === undefined || e.ctrlKey || e.altKey) return
        e.preventDefault()
        e.stopPropagation()
        own[Math.min(Math.max(to, 0), own.length - 1)]?.focus()
      },
    },
  }
}

export function FindingsPart() {
  const findings = useBench((s) => s.findings)
  const kinds = useCatalogue((s) => s.kinds)
  const { kind, order, accepted } = useInspect()
  const counts = useMemo(() => countsOf(findings), [findings])
  const lanes = useMemo(() => new Map(kinds.map((k, n) => [k.name, n])), [kinds])
  const listed = sorted(
    (findings ?? []).filter(
      (f) => (kind ? f.kind === kind : f.kind !== 'idle') && (accepted || !f.accepted),
    ),
    order,
    lanes,
  )
  const { list, at, keys } = useListKeys(Math.min(listed.length, MOST_LISTED))
  if (!findings) return <p className="text-ink-3">Looking the clip over …</p>
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
          ref={list}
          {...keys}
          aria-label="Findings"
          className="min-h-24 flex-1 overflow-y-auto rounded-[3px] border border-rule bg-paper text-[12px]"
        >
          {listed.slice(0, MOST_LISTED).map((f, k) => (
            <ItemWithHead
              key={`${f.kind}/${f.joint}/${f.channel}/${f.first}`}
              finding={f}
              tab={k === at}
              head={order === 'kind' && !kind && f.kind !== listed[k - 1]?.kind}
            />
          ))}
        </ul>
      )}
      {listed.length > 0 && (
        <p className="text-[11px] text-ink-3">↑ ↓ choose · Enter goes · A accepts · M mends</p>
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

function ItemWithHead({ finding, head, tab }: { finding: Finding; head: boolean; tab: boolean }) {
  const plural = useCatalogue((s) => s.kinds.find((k) => k.name === finding.kind)?.plural)
  return (
    <>
      {head && (
        <li className="border-rule border-b bg-raised px-1.5 pt-1 font-semibold text-ink-2">
          {plural}
        </li>
      )}
      <Item finding={finding} tab={tab} />
    </>
  )
}
