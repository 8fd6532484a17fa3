/** Thin: what the tolerance holds for, who shares key times, and what the result costs. */
import { Brush, X } from 'lucide-react'
import { useCallback, useEffect, useState, useSyncExternalStore } from 'react'
import { countsOf } from '../../actions/findings'
import { paintedGroup, usePainting, withSpan } from '../../actions/painting'
import { commitThin, DEFAULTS, type ThinParams, thinLine } from '../../actions/thinning'
import { cancelPreview, startPreview } from '../../sync/previews'
import { Button, Check, Choice, inputLook, Row, Select, Slider, Toggle } from '../../ui/controls'
import { degrees, grouped, millimetres } from '../../ui/numbers'
import { notify, useBench } from '../../view/bench'
import { transport } from '../../view/transport'
import { OperationCard } from '../operation/OperationCard'
import { beginning, ScopeChoice, scopeOf } from '../operation/ScopeChoice'
import { Panel, Trouble } from '../Panel'
import { Buys, useTolerances } from './Buys'
import { useFewest } from './fewest'

/** Where the sliders stop: fine where tolerances are small, round numbers throughout. */
const DEGREES = [
  0.02, 0.03, 0.04, 0.05, 0.06, 0.08, 0.1, 0.12, 0.15, 0.2, 0.25, 0.3, 0.4, 0.5, 0.6, 0.8, 1, 1.2,
  1.5, 2, 2.5, 3, 4, 5,
]
const MILLIMETRES = [0.1, 0.2, 0.3, 0.5, 0.8, 1, 1.5, 2, 3, 5, 8, 10, 15, 20, 30, 50]
const SHARES = [0.1, 0.15, 0.2, 0.25, 0.3, 0.4, 0.5, 0.6, 0.8, 1]

const MEASURES = {
  channel: 'each channel',
  joint: 'each joint as a rotation',
  ends: 'hands, feet and head in mm',
}
const LAYOUTS = {
  channel: 'each channel its own: fewest',
  joint: 'shared by a joint’s channels',
  part: 'shared by a part of the body',
  pose: 'key poses of the whole body',
}
const EXTREMES = { every: 'every one', large: 'large ones' }
const SEARCHES = {
  usual: 'as usual',
  'fewest keys': 'longer, for the fewest',
}
const PAINTED = { '0.5': 'half', '0.25': 'a quarter', '0.1': 'a tenth' }
const LIMBS = ['left hand', 'right hand', 'left foot', 'right foot']

/** The stop nearest to a value, by ratio. */
const nearest = (stops: readonly number[], value: number) =>
  stops.reduce(
    (best, v, k) =>
      Math.abs(Math.log(v / value)) < Math.abs(Math.log(stops[best]! / value)) ? k : best,
    0,
  )

function Stops({
  label,
  stops,
  unit,
  value,
  onChange,
}: {
  label: string
  stops: readonly number[]
  unit: string
  value: number
  onChange: (value: number) => void
}) {
  return (
    <Slider
      label={label}
      shown={`${value}${unit}`}
      min={0}
      max={stops.length - 1}
      step={1}
      value={[nearest(stops, value)]}
      onValueChange={([k]) => onChange(stops[k!]!)}
    />
  )
}

function Budget({
  params,
  onChange,
}: {
  params: ThinParams
  onChange: (change: Partial<ThinParams>) => void
}) {
  const kind = params.poses ? 'poses' : params.most_keys ? 'keys' : 'none'
  const value = params.poses ?? params.most_keys ?? ''
  return (
    <div className="flex items-end gap-2">
      <Choice
        label="Or by a budget"
        value={kind}
        options={{
          none: 'none: the tolerance holds',
          keys: 'at most so many keys',
          poses: 'about so many poses',
        }}
        onChange={(next) => {
          if (next === 'keys') onChange({ most_keys: 4000, poses: null })
          else if (next === 'poses') onChange({ poses: 40, most_keys: null, layout: 'pose' })
          else onChange({ most_keys: null, poses: null })
        }}
      />
      {kind !== 'none' && (
        <input
          key={`${kind}${value}`}
          aria-label={kind === 'poses' ? 'How many poses' : 'How many keys'}
          className={`${inputLook} num h-6 w-20 text-right`}
          inputMode="numeric"
          defaultValue={value}
          onKeyDown={(e) => e.key === 'Enter' && e.currentTarget.blur()}
          onBlur={(e) => {
            const typed = Math.round(Number(e.currentTarget.value))
            if (typed >= 2 && typed !== value)
              onChange(kind === 'poses' ? { poses: typed } : { most_keys: typed })
          }}
        />
      )}
    </div>
  )
}

const rangeText = () => transport.range.join('–')

/** Spans that keep closer to the take, made of the time strip's range. */
function Spans({
  params,
  onChange,
}: {
  params: ThinParams
  onChange: (change: Partial<ThinParams>) => void
}) {
  const body = useBench((s) => s.body)
  const [group, setGroup] = useState('left arm')
  const range = useSyncExternalStore(transport.subscribe, rangeText)
  const [first, last] = transport.range
  const add = () => {
    if (LIMBS.includes(group))
      onChange({ paths: [...params.paths, { limb: group, first, last, mm: 3 }] })
    else onChange({ tighter: [...params.tighter, { group, first, last, share: 0.25 }] })
  }
  const { on: painting, share, painted } = usePainting()
  // What was painted last is taken up once; the tool goes with the panel.
  // biome-ignore lint/correctness/useExhaustiveDependencies: of the painted span alone
  useEffect(() => {
    const part = paintedGroup()
    if (!painted) return
    usePainting.setState({ painted: null })
    if (part) onChange({ tighter: withSpan(params.tighter, { group: part, ...painted, share }) })
    else notify('Select a joint of a known part of the body first: it is painted for that part.')
  }, [painted])
  useEffect(() => () => usePainting.setState({ on: false }), [])
  const rows = [
    ...params.tighter.map((t, k) => ({
      text: `${t.group}, ${t.share} of the tolerance`,
      span: t,
      drop: () => onChange({ tighter: params.tighter.filter((_, n) => n !== k) }),
    })),
    ...params.paths.map((p, k) => ({
      text: `path of the ${p.limb} within ${p.mm} mm`,
      span: p,
      drop: () => onChange({ paths: params.paths.filter((_, n) => n !== k) }),
    })),
    ...params.also.map((f) => ({
      text: 'key in every channel',
      span: { first: f, last: f },
      drop: () => onChange({ also: params.also.filter((x) => x !== f) }),
    })),
  ]
  return (
    <section className="flex flex-col gap-1.5">
      <h3 className="text-ink-2">Closer to the take in a span</h3>
      <div className="flex gap-1.5">
        <select
          aria-label="What keeps closer"
          className={`${inputLook} h-6 min-w-0 flex-1`}
          value={group}
          onChange={(e) => setGroup(e.target.value)}
        >
          {Object.keys(body?.groups ?? {}).map((g) => (
            <option key={g}>{g}</option>
          ))}
          {LIMBS.map((l) => (
            <option key={l} value={l}>
              path of the {l}
            </option>
          ))}
        </select>
        <Button onClick={add}>
          in <span className="num">{range}</span>
        </Button>
      </div>
      <div className="flex items-center gap-1.5">
        <Toggle
          on={painting}
          className="flex-1"
          title="Drag over the curves: the part of the selected joint keeps closer there"
          onClick={() => usePainting.setState({ on: !painting })}
        >
          <Brush size={12} /> Paint on the curves
        </Toggle>
        <Select
          label="Share of the tolerance that is left"
          value={String(share) as keyof typeof PAINTED}
          options={PAINTED}
          onChange={(v) => usePainting.setState({ share: Number(v) })}
        />
      </div>
      {rows.map(({ text, span, drop }) => (
        <p key={`${text}${span.first}`} className="flex items-center gap-1 text-[12px]">
          <span className="min-w-0 flex-1">{text}</span>
          <span className="num text-ink-3">
            {span.first === span.last ? span.first : `${span.first}–${span.last}`}
          </span>
          <Button kind="quiet" className="w-6 px-0" aria-label={`Delete ${text}`} onClick={drop}>
            <X size={12} />
          </Button>
        </p>
      ))}
    </section>
  )
}

export function ThinPanel() {
  const clip = useBench((s) => s.clip)
  const preview = useBench((s) => s.preview)
  const trouble = useBench((s) => s.previewTrouble)
  const previewing = useBench((s) => s.previewing)
  const saving = useBench((s) => s.saving)
  const findings = useBench((s) => s.findings)
  const line = thinLine(clip)
  const kept = line?.params as Partial<ThinParams> | undefined
  const [params, setParams] = useState<ThinParams>({ ...DEFAULTS, ...kept, keep: null })
  const [scope, setScope] = useState(() => beginning('all'))
  // The line may change elsewhere: by undo, in the recipe, on the drift lane.
  const text = JSON.stringify(kept ?? {})
  useEffect(() => {
    setParams({ ...DEFAULTS, ...(JSON.parse(text) as Partial<ThinParams>), keep: null })
  }, [text])
  const last = clip?.head.recipe.at(-1)
  // Thinning again changes the line that stands: its input is what stood before it.
  const editing = line !== undefined && last?.line_id === line.line_id ? line.line_id : null
  const again = editing !== null
  // What the head says of itself, where it is this very line that made it.
  const said = clip?.head.report as Record<string, number> | undefined
  const standing = again && said && 'keys_before' in said ? said : null

  const show = useCallback(
    (next: ThinParams, within = scope) =>
      // The longer search is a job of its own: what it would make is shown as the usual one finds it.
      void startPreview(
        'thin',
        { ...next, search: 'usual' },
        {
          line: editing,
          scope: again && line ? line.scope : scopeOf(within),
        },
      ),
    [editing, again, line, scope],
  )
  const change = (part: Partial<ThinParams>) => {
    const next = { ...params, ...part }
    if (next.layout !== 'pose' && next.poses) next.poses = null
    setParams(next)
    show(next)
  }
  // A noisy take begins with the tolerance that its noise proposes.
  const proposed = useTolerances()?.proposed_deg
  // biome-ignore lint/correctness/useExhaustiveDependencies: once, when the proposal comes
  useEffect(() => {
    if (proposed !== undefined && !line && params.tolerance_deg === DEFAULTS.tolerance_deg)
      if (proposed !== params.tolerance_deg) change({ tolerance_deg: proposed })
  }, [proposed])
  // The panel shows what thinning would do from the moment it is open.
  const fewest = useFewest()
  const head = clip?.head.id
  // biome-ignore lint/correctness/useExhaustiveDependencies: controls preview by themselves
  useEffect(() => {
    if (head !== undefined && (!again || !standing)) show(params)
  }, [head, again])

  if (!clip) return null
  const shown = preview?.operation === 'thin' ? preview : null
  const whole = shown?.whole
  const drift = whole?.drift
  const counts = countsOf(findings)
  const found = (counts.wrap ?? 0) + (counts.alternate ?? 0)
  const longer = params.search === 'fewest keys' && params.layout === 'channel'
  const commit = () => {
    const within = again && line ? line.scope : scopeOf(scope)
    if (longer) void fewest.begin(params, within, editing)
    else void commitThin(params, within, editing)
  }
  const pending = previewing ? '…' : '–'
  const report = whole?.report ?? standing
  const per = params.measure === 'joint' ? 'per joint' : 'per channel'
  return (
    <Panel
      title="Thin"
      lead="Few keys where an animator would put them. The capture itself is kept."
      actions={
        fewest.running ? (
          <>
            <Button onClick={fewest.cancel}>Stop</Button>
            <span role="status" className="flex flex-1 items-center justify-center gap-2">
              <progress
                className="h-1.5 w-24 accent-[var(--calm)]"
                max={1}
                value={fewest.progress}
                aria-label="Progress of the search"
              />
              <span className="num">{Math.round(100 * fewest.progress)} %</span>
            </span>
          </>
        ) : (
          <>
            {shown || previewing ? (
              <Button onClick={cancelPreview}>Discard</Button>
            ) : (
              <Button onClick={() => show(params)}>Preview</Button>
            )}
            <Button kind="primary" disabled={saving || (again && !shown)} onClick={commit}>
              {saving ? 'Applying …' : again ? 'Thin again' : 'Apply thinning'}
            </Button>
          </>
        )
      }
    >
      {found > 0 && (
        <p className="rounded-[3px] border border-warn px-2.5 py-1.5 text-warn">
          {found} flips stand: unflip first, or each costs keys.
        </p>
      )}
      {trouble && <Trouble>{trouble}</Trouble>}
      {fewest.trouble && <Trouble>{fewest.trouble}</Trouble>}
      <Choice
        label="The tolerance holds for"
        value={params.measure}
        options={MEASURES}
        onChange={(m) => change({ measure: m as ThinParams['measure'] })}
      />
      {params.measure === 'ends' ? (
        <Stops
          label="Stay within, at the ends"
          stops={MILLIMETRES}
          unit=" mm"
          value={params.ends_mm}
          onChange={(v) => change({ ends_mm: v })}
        />
      ) : (
        <>
          <Stops
            label={`Stay within, ${per}`}
            stops={DEGREES}
            unit="°"
            value={params.tolerance_deg}
            onChange={(v) => change({ tolerance_deg: v })}
          />
          <Stops
            label="and position channels"
            stops={MILLIMETRES}
            unit=" mm"
            value={params.tolerance_mm}
            onChange={(v) => change({ tolerance_mm: v })}
          />
        </>
      )}
      {params.measure !== 'ends' && !params.most_keys && !params.poses && (
        <Buys
          inUse={params.tolerance_deg}
          perDegree={drift ? drift.max_mm / params.tolerance_deg : null}
          onTake={(tolerance_deg) => change({ tolerance_deg })}
        />
      )}
      {params.measure === 'channel' && (
        <p className="text-ink-3">
          Degrees are per channel: a joint's rotation, and what hangs on it, can move farther. The
          drift below says by how much.
        </p>
      )}
      <Choice
        label="Key times"
        value={params.layout}
        options={LAYOUTS}
        onChange={(l) => change({ layout: l as ThinParams['layout'] })}
      />
      {params.layout === 'channel' && (
        <Choice
          label="Keys are looked for"
          value={params.search ?? 'usual'}
          options={SEARCHES}
          onChange={(search) => change({ search: search as ThinParams['search'] & string })}
        />
      )}
      {longer && (
        <p className="text-ink-3">
          Below is what the usual search finds. The longer one runs when it is applied, and most
          often finds a few keys in a hundred less.
        </p>
      )}
      <dl aria-busy={previewing} data-testid="thin-numbers">
        <Row name="Keys">
          {report ? (
            <>
              {grouped(report.keys_before!)} → <b>{grouped(report.keys_after!)}</b>
            </>
          ) : (
            pending
          )}
        </Row>
        {report?.poses !== undefined && <Row name="Key poses">{report.poses}</Row>}
        <Row name="÷ provable minimum">
          {report
            ? `${(report.keys_after! / Math.max(1, report.keys_bound!)).toFixed(2)} ×`
            : pending}
        </Row>
        {(params.poses || params.most_keys) && report && (
          <Row name="Largest error, a channel">{degrees(report.max_error_deg!)}</Row>
        )}
        <Row name="Drift, largest">{drift ? degrees(drift.max_deg) : pending}</Row>
        <Row name="at">{drift ? `${drift.max_joint}, frame ${drift.max_frame}` : pending}</Row>
        <Row name="Drift, RMS">{drift ? degrees(drift.rms_deg) : pending}</Row>
        <Row name="At the ends, largest">{drift ? millimetres(drift.max_mm) : pending}</Row>
        <Row name="At the ends, RMS">{drift ? millimetres(drift.rms_mm) : pending}</Row>
        {report?.slide_before_mm !== undefined && (
          <Row name="Foot slide, largest">
            {millimetres(report.slide_before_mm)} → <b>{millimetres(report.slide_after_mm!)}</b>
          </Row>
        )}
      </dl>
      <Budget params={params} onChange={change} />
      <Check on={params.landmarks} onChange={(on) => change({ landmarks: on })}>
        Keys on extremes, holds and breaks
      </Check>
      {params.landmarks && (
        <Choice
          label="Extremes with a key"
          value={params.extremes ?? 'every'}
          options={EXTREMES}
          onChange={(extremes) => change({ extremes: extremes as 'every' | 'large' })}
        />
      )}
      <Check on={params.contacts} onChange={(on) => change({ contacts: on })}>
        Keys where feet and hands are set and lifted
      </Check>
      {params.contacts && (
        <Stops
          label="Tolerance left to planted legs"
          stops={SHARES}
          unit=" ×"
          value={params.planted}
          onChange={(v) => change({ planted: v })}
        />
      )}
      {!again && (
        <ScopeChoice
          scoped
          keyed={false}
          byHand={false}
          value={scope}
          ranged
          onChange={(next) => {
            setScope(next)
            show(params, next)
          }}
        />
      )}
      <Spans params={params} onChange={change} />
      {drift && (
        <dl>
          {Object.entries(drift.end_max_mm).map(([end, v]) => (
            <Row key={end} name={end}>
              {millimetres(v)}
            </Row>
          ))}
        </dl>
      )}
      {again && (
        <p className="text-ink-3">
          Unfold the time strip’s lanes and press the one of drift to set a key where the result is
          farthest off.
        </p>
      )}
      <OperationCard name="densify" />
    </Panel>
  )
}
