/** Thin: tolerances, live preview, and what the result costs in drift. */
import { useCallback, useEffect, useState } from 'react'
import { apply, cancelPreview, startPreview, useBench, write } from '../../clip/bench'
import { countsOf } from '../../clip/findings'
import { Button, Row, Slider } from '../../ui/controls'
import { degrees, grouped, millimetres } from '../../ui/numbers'
import { Panel, Trouble } from '../Panel'

/** Where the sliders stop: fine where tolerances are small, round numbers throughout. */
const DEGREES = [
  0.02, 0.03, 0.04, 0.05, 0.06, 0.08, 0.1, 0.12, 0.15, 0.2, 0.25, 0.3, 0.4, 0.5, 0.6, 0.8, 1, 1.2,
  1.5, 2, 2.5, 3, 4, 5,
]
const MILLIMETRES = [0.1, 0.2, 0.3, 0.5, 0.8, 1, 1.5, 2, 3, 5, 8, 10, 15, 20, 30, 50]

/** The stop nearest to a value, by ratio. */
const nearest = (stops: readonly number[], value: number) =>
  stops.reduce(
    (best, v, k) =>
      Math.abs(Math.log(v / value)) < Math.abs(Math.log(stops[best]! / value)) ? k : best,
    0,
  )

export function ThinPanel() {
  const clip = useBench((s) => s.clip)
  const preview = useBench((s) => s.preview)
  const trouble = useBench((s) => s.previewTrouble)
  const previewing = useBench((s) => s.previewing)
  const saving = useBench((s) => s.saving)
  const findings = useBench((s) => s.findings)
  const line = clip?.head.recipe.findLast((l) => l.operation === 'thin')
  const kept = line?.params as { tolerance_deg?: number; tolerance_mm?: number } | undefined
  const [deg, setDeg] = useState(kept?.tolerance_deg ?? 0.25)
  const [mm, setMm] = useState(kept?.tolerance_mm ?? 1)
  const [landmarks, setLandmarks] = useState(true)
  const last = clip?.head.recipe.at(-1)
  // Thinning again changes the line that stands: its input is what stood before it.
  const editing = line !== undefined && last?.line_id === line.line_id ? line.line_id : null
  const again = editing !== null

  const show = useCallback(
    (d: number, m: number, l: boolean) =>
      void startPreview(
        'thin',
        { tolerance_deg: d, tolerance_mm: m, landmarks: l },
        { line: editing },
      ),
    [editing],
  )
  // The panel shows what thinning would do from the moment it is open.
  const head = clip?.head.id
  // biome-ignore lint/correctness/useExhaustiveDependencies: sliders preview by themselves
  useEffect(() => {
    if (head !== undefined && !again) show(deg, mm, landmarks)
  }, [head, again, show])

  if (!clip) return null
  const shown = preview?.operation === 'thin' ? preview : null
  const whole = shown?.whole
  const counts = countsOf(findings)
  const found = (counts.wrap ?? 0) + (counts.alternate ?? 0)
  const params = { tolerance_deg: deg, tolerance_mm: mm, landmarks }
  const commit = () =>
    again && line
      ? void write({
          edit: { line_id: line.line_id, operation: 'thin', params, scope: line.scope },
        })
      : void apply('thin', params)
  const pending = previewing ? '…' : '–'
  const report = whole?.report ?? (again ? (clip.head.report as Record<string, number>) : null)
  return (
    <Panel
      title="Thin"
      lead="Few keys where an animator would put them. The capture itself is kept."
      actions={
        <>
          {shown || previewing ? (
            <Button onClick={cancelPreview}>Discard</Button>
          ) : (
            <Button onClick={() => show(deg, mm, landmarks)}>Preview</Button>
          )}
          <Button kind="primary" disabled={saving || (again && !shown)} onClick={commit}>
            {saving ? 'Applying …' : again ? 'Thin again' : 'Apply thinning'}
          </Button>
        </>
      }
    >
      {found > 0 && (
        <p className="rounded-[3px] border border-warn px-2.5 py-1.5 text-warn">
          {found} flips stand: unflip first, or each costs keys.
        </p>
      )}
      {trouble && <Trouble>{trouble}</Trouble>}
      <Slider
        label="Stay within, per channel"
        shown={`${deg}°`}
        min={0}
        max={DEGREES.length - 1}
        step={1}
        value={[nearest(DEGREES, deg)]}
        onValueChange={([k]) => {
          const v = DEGREES[k!]!
          setDeg(v)
          show(v, mm, landmarks)
        }}
      />
      <Slider
        label="and position channels"
        shown={`${mm} mm`}
        min={0}
        max={MILLIMETRES.length - 1}
        step={1}
        value={[nearest(MILLIMETRES, mm)]}
        onValueChange={([k]) => {
          const v = MILLIMETRES[k!]!
          setMm(v)
          show(deg, v, landmarks)
        }}
      />
      <p className="text-ink-3">
        Degrees are per channel: a joint's rotation, and what hangs on it, can move farther. The
        drift below says by how much.
      </p>
      <label className="flex items-center gap-2">
        <input
          type="checkbox"
          className="size-3.5 accent-[var(--calm)]"
          checked={landmarks}
          onChange={(e) => {
            setLandmarks(e.target.checked)
            show(deg, mm, e.target.checked)
          }}
        />
        Keys on extremes, holds and breaks
      </label>
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
        <Row name="÷ provable minimum">
          {report
            ? `${(report.keys_after! / Math.max(1, report.keys_bound!)).toFixed(2)} ×`
            : pending}
        </Row>
        <Row name="Drift, largest">{whole ? degrees(whole.drift.max_deg) : pending}</Row>
        <Row name="at">
          {whole ? `${whole.drift.max_joint}, frame ${whole.drift.max_frame}` : pending}
        </Row>
        <Row name="Drift, RMS">{whole ? degrees(whole.drift.rms_deg) : pending}</Row>
        <Row name="At the ends, largest">{whole ? millimetres(whole.drift.max_mm) : pending}</Row>
        <Row name="At the ends, RMS">{whole ? millimetres(whole.drift.rms_mm) : pending}</Row>
      </dl>
      {whole && (
        <dl>
          {Object.entries(whole.drift.end_max_mm).map(([end, v]) => (
            <Row key={end} name={end}>
              {millimetres(v)}
            </Row>
          ))}
        </dl>
      )}
    </Panel>
  )
}
