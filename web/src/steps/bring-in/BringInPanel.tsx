/** Bring in: how the take is read, what was noticed, and where millimetres are measured. */
import { X } from 'lucide-react'
import { useState } from 'react'
import type { Clip } from '../../evaluation/model'
import { write } from '../../sync/write'
import { Choice, Field, inputLook, Row } from '../../ui/controls'
import { grouped, rateOf, seconds } from '../../ui/numbers'
import { useBench } from '../../view/bench'
import { Panel, Section } from '../Panel'
import { Beneath } from './Beneath'

const UNITS = { m: 1, cm: 0.01, mm: 0.001, inch: 0.0254 } as const

function unitOf(metres: number): keyof typeof UNITS | 'other' {
  const found = Object.entries(UNITS).find(([, m]) => Math.abs(m - metres) < 1e-9)
  return (found?.[0] as keyof typeof UNITS | undefined) ?? 'other'
}

function change(clip: Clip, params: Record<string, unknown>): void {
  const line = clip.head.recipe[0]!
  const merged = { ...line.params, ...params }
  void write({ edit: { line_id: line.line_id, operation: 'read', params: merged, scope: {} } })
}

function Unit({ clip }: { clip: Clip }) {
  const metres = clip.reading.metres_per_unit
  const unit = unitOf(metres)
  const [typed, setTyped] = useState<string | null>(null)
  const height = clip.height * metres
  return (
    <>
      <Choice
        label="One unit of the file is"
        value={unit}
        options={{
          m: 'a metre',
          cm: 'a centimetre',
          mm: 'a millimetre',
          inch: 'an inch',
          other: 'another length',
        }}
        onChange={(v) => {
          if (v === 'other') setTyped((metres * 100).toPrecision(4))
          else {
            setTyped(null)
            change(clip, { metres_per_unit: UNITS[v as keyof typeof UNITS] })
          }
        }}
      />
      {(unit === 'other' || typed !== null) && (
        <Field label="that is, in centimetres">
          <input
            className={`${inputLook} num`}
            inputMode="decimal"
            value={typed ?? (metres * 100).toPrecision(4)}
            onChange={(e) => setTyped(e.target.value)}
            onKeyDown={(e) => e.key === 'Enter' && e.currentTarget.blur()}
            onBlur={() => {
              const cm = Number(typed)
              if (typed !== null && cm > 0) change(clip, { metres_per_unit: cm / 100 })
              setTyped(null)
            }}
          />
        </Field>
      )}
      <p className="num text-ink-2">the figure stands {height.toFixed(2)} m tall</p>
    </>
  )
}

function Ends({ clip }: { clip: Clip }) {
  const { ends } = clip.reading
  const others = clip.joints.map((j) => j.name).filter((n) => !ends.includes(n))
  return (
    <Section title="Ends: where millimetres are measured">
      <ul className="flex flex-wrap gap-1">
        {ends.map((name) => (
          <li
            key={name}
            className="flex items-center gap-1 rounded-[3px] border border-rule-2 bg-paper py-0.5 pr-1 pl-2"
          >
            {name}
            <button
              type="button"
              aria-label={`Take ${name} off the ends`}
              disabled={ends.length < 2}
              className="text-ink-3 hover:text-ink disabled:opacity-40"
              onClick={() => change(clip, { ends: ends.filter((n) => n !== name) })}
            >
              <X size={12} />
            </button>
          </li>
        ))}
      </ul>
      <select
        aria-label="Add an end"
        className={inputLook}
        value=""
        onChange={(e) => change(clip, { ends: [...ends, e.target.value] })}
      >
        <option value="">Add a joint …</option>
        {others.map((n) => (
          <option key={n}>{n}</option>
        ))}
      </select>
    </Section>
  )
}

export function BringInPanel() {
  const clip = useBench((s) => s.clip)
  if (!clip) return null
  const { reading } = clip
  const meaning = { add: 'add to the rest offset', replace: 'replace the rest offset' }
  const moving = clip.joints.some((j) => j.parent >= 0 && j.channels.some((c) => c[0] === 't'))
  const offset = clip.joints.some((j) => j.parent < 0 && j.offset.some((v) => v !== 0))
  const channels = clip.joints.reduce((n, j) => n + j.channels.length, 0)
  return (
    <Panel
      title="Bring in"
      lead="How the file's numbers are understood. The capture itself is kept as it came."
    >
      {clip.warnings.map((w) => (
        <p key={w} className="rounded-[3px] border border-warn px-2.5 py-1.5 text-warn">
          {w}
        </p>
      ))}
      <Unit clip={clip} />
      <Choice
        label="Up is"
        value={reading.up_axis}
        options={{ y: 'Y', z: 'Z', x: 'X' }}
        onChange={(v) => change(clip, { up_axis: v })}
      />
      {offset && (
        <Choice
          label="The root's positions"
          value={reading.root_positions}
          options={meaning}
          onChange={(v) => change(clip, { root_positions: v })}
        />
      )}
      {moving && (
        <Choice
          label="Other joints' positions"
          value={reading.joint_positions}
          options={meaning}
          onChange={(v) => change(clip, { joint_positions: v })}
        />
      )}
      <Ends clip={clip} />
      <Beneath clip={clip} key={clip.take} />
      <dl>
        <Row name="Length">{seconds((clip.frames - 1) / (clip.rate[0]! / clip.rate[1]!))}</Row>
        <Row name="Frames">
          {grouped(clip.frames)} at {rateOf(clip.rate)} / s
        </Row>
        <Row name="Joints, channels">
          {clip.joints.length}, {channels}
        </Row>
        <Row name="Keys">{grouped(clip.head.keys)}</Row>
      </dl>
      {clip.notes.length > 0 && (
        <Section title="Noticed while reading">
          <ul className="list-disc pl-4 text-ink-2">
            {clip.notes.map((n) => (
              <li key={n}>{n}</li>
            ))}
          </ul>
        </Section>
      )}
    </Panel>
  )
}
