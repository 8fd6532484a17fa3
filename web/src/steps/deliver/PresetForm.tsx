/** The fields of a preset: what a destination needs. Those that deviate from it are marked. */
import type { ReactNode } from 'react'
import { Check, Field, inputLook, NumberInput, Select } from '../../ui/controls'
import { counted, rateOf } from '../../ui/numbers'
import { RATES } from '../../ui/rates'
import { useBench } from '../../view/bench'
import { FORMATS, type Form, inFormat, isGltf, isScene, KINDS } from './form'

type Change = (change: Partial<Form>) => void

const Differs = () => (
  <span className="text-[11px] text-warn" title="from the preset">
    differs
  </span>
)

/** A field with its name, and a mark where it is other than the preset has it. */
function Marked({ name, off, children }: { name: string; off: boolean; children: ReactNode }) {
  return (
    <Field
      label={
        <span className="flex items-baseline justify-between gap-2">
          {name}
          {off && <Differs />}
        </span>
      }
    >
      {children}
    </Field>
  )
}

export function PresetForm({
  form,
  off,
  onChange,
}: {
  form: Form
  off: ReadonlySet<keyof Form>
  onChange: Change
}) {
  const clip = useBench((s) => s.clip!)
  const native = rateOf(clip.rate)
  const rate = form.rate ? rateOf(form.rate) : native
  const rates = RATES[native] ? Object.keys(RATES) : [native, ...Object.keys(RATES)]
  const any = (...names: (keyof Form)[]) => names.some((n) => off.has(n))
  return (
    <>
      <Marked name="Format" off={off.has('format')}>
        <Select
          className="w-full"
          value={form.format}
          options={FORMATS}
          onChange={(format) => onChange(inFormat(form, format))}
        />
      </Marked>
      <div className="grid grid-cols-2 gap-2">
        <Marked name="Frames a second" off={off.has('rate')}>
          <Select
            className="w-full"
            value={rate}
            options={Object.fromEntries(
              rates.map((r) => [r, r === native ? `${r}, as the clip` : r]),
            )}
            onChange={(r) => onChange({ rate: r === native ? null : RATES[r]! })}
          />
        </Marked>
        <Marked name="Root" off={off.has('root')}>
          <Select
            className="w-full"
            value={form.root}
            options={{ hips: 'hips', floor: 'on the floor' }}
            hints={{
              hips: 'The hips carry everything.',
              floor: 'A joint on the floor carries travel and heading, the hips the rest.',
            }}
            onChange={(root) => onChange({ root })}
          />
        </Marked>
      </div>
      {isGltf(form) && <Curves form={form} off={any('within_deg', 'fewest')} onChange={onChange} />}
      <Joints form={form} off={any('without', 'joints')} onChange={onChange} />
      {isScene(form) && (
        <Marked name="Body" off={off.has('body')}>
          <Select
            className="w-full"
            value={form.body}
            options={{
              own: 'its own, where it has one',
              figure: 'its own, else the drawn figure',
              none: 'none',
            }}
            onChange={(body) => onChange({ body })}
          />
        </Marked>
      )}
      {clip.props.length > 0 && form.format !== 'csv' && (
        <Check on={form.props} onChange={(props) => onChange({ props })}>
          {form.format === 'bvh' ? 'Props as joints of their own roots' : 'Props go along'}
          {off.has('props') && <Differs />}
        </Check>
      )}
      {clip.partners.length > 0 && form.format !== 'json' && (
        <Check on={form.partners} onChange={(partners) => onChange({ partners })}>
          Partners as figures of their own
          {off.has('partners') && <Differs />}
        </Check>
      )}
      <More form={form} off={off} onChange={onChange} />
    </>
  )
}

function Curves({ form, off, onChange }: { form: Form; off: boolean; onChange: Change }) {
  const fitted = form.within_deg != null
  return (
    <Marked name="Curves" off={off}>
      <div className="flex flex-wrap items-center gap-x-2 gap-y-1 text-ink">
        <Select
          className="w-full"
          label="Curves"
          value={fitted ? 'splines' : 'frames'}
          options={{ frames: 'a key on each frame', splines: 'fitted splines' }}
          onChange={(kind) =>
            onChange(
              kind === 'splines' ? { within_deg: 0.25 } : { within_deg: null, fewest: false },
            )
          }
        />
        {fitted && (
          <>
            within
            <NumberInput
              label="Degrees that splines may be off"
              className="w-12"
              value={form.within_deg!}
              onCommit={(within_deg) => onChange({ within_deg })}
            />
            ° and
            <NumberInput
              label="Millimetres that splines may be off"
              className="w-12"
              value={form.within_mm}
              onCommit={(within_mm) => onChange({ within_mm })}
            />
            mm
            <Check on={form.fewest} onChange={(fewest) => onChange({ fewest })}>
              fewest keys, not the clip's own times
            </Check>
          </>
        )}
      </div>
    </Marked>
  )
}

function Joints({ form, off, onChange }: { form: Form; off: boolean; onChange: Change }) {
  const chosen = useBench((s) => s.joints)
  const clip = useBench((s) => s.clip!)
  const names = [...chosen].flatMap((j) => clip.joints[j]?.name ?? [])
  return (
    <fieldset className="flex flex-col gap-1">
      <legend className="text-ink-2">Joints left out {off && <Differs />}</legend>
      <div className="flex flex-wrap gap-x-4">
        {(Object.keys(KINDS) as Form['without']).map((kind) => (
          <Check
            key={kind}
            on={form.without.includes(kind)}
            onChange={(on) =>
              onChange({
                without: on ? [...form.without, kind] : form.without.filter((k) => k !== kind),
              })
            }
          >
            {KINDS[kind]}
          </Check>
        ))}
      </div>
      {(form.joints.length > 0 || names.length > 0) && (
        <Check
          on={form.joints.length > 0}
          title={form.joints.join(', ')}
          onChange={(on) => onChange({ joints: on ? names : [] })}
        >
          all but {counted(form.joints.length || names.length, 'chosen joint')}
        </Check>
      )}
    </fieldset>
  )
}

const lines = (renamed: Form['renamed']) =>
  Object.entries(renamed)
    .map(([from, to]) => `${from} = ${to}`)
    .join('\n')
const table = (text: string): Form['renamed'] =>
  Object.fromEntries(
    text
      .split('\n')
      .map((line) => line.split('=').map((part) => part.trim()))
      .filter(([from, to]) => from && to) as [string, string][],
  )

type Axis = 'own' | 'x' | 'y' | 'z'
const AXES: Record<Axis, string> = { own: 'as the clip', y: 'Y', z: 'Z', x: 'X' }
const FILES = {
  whole: 'one of the range',
  marks: 'one of each named span in it',
} as Record<Form['files'], string>
const OF_USD = { own: 'as the clip', y: 'Y', z: 'Z' } as Record<Axis, string>

/** What is set once for a destination, and seldom looked at. */
function More({
  form,
  off,
  onChange,
}: {
  form: Form
  off: ReadonlySet<keyof Form>
  onChange: Change
}) {
  const differs = (
    ['up_axis', 'unit', 'plain_names', 'prefix', 'renamed', 'files', 'folder'] as const
  ).filter((n) => off.has(n)).length
  const axes = isGltf(form)
  return (
    <details className="rounded-[3px] border border-rule-2 px-2.5 py-1.5">
      <summary className="cursor-pointer text-ink-2">
        Axes, names and parts
        {differs > 0 && (
          <span className="text-[11px] text-warn"> · {counted(differs, 'field')} differ</span>
        )}
      </summary>
      <div className="mt-2 flex flex-col gap-2">
        {axes ? (
          <p className="text-ink-2">glTF is in metres, with Y up.</p>
        ) : (
          <div className="grid grid-cols-2 gap-2">
            <Marked name="Up axis" off={off.has('up_axis')}>
              <Select
                className="w-full"
                value={(form.up_axis ?? 'own') as Axis}
                options={isScene(form) ? OF_USD : AXES}
                onChange={(axis) => onChange({ up_axis: axis === 'own' ? null : axis })}
              />
            </Marked>
            <Marked name="Unit" off={off.has('unit')}>
              <Select
                className="w-full"
                value={form.unit ?? 'own'}
                options={{ own: 'as the clip', m: 'metres', cm: 'centimetres', mm: 'millimetres' }}
                onChange={(unit) => onChange({ unit: unit === 'own' ? null : unit })}
              />
            </Marked>
          </div>
        )}
        <Check on={form.plain_names} onChange={(plain_names) => onChange({ plain_names })}>
          Joint names without what stands before a colon
        </Check>
        <Marked name="Put before each joint's name" off={off.has('prefix')}>
          <input
            className={inputLook}
            value={form.prefix}
            maxLength={60}
            onChange={(e) => onChange({ prefix: e.target.value })}
          />
        </Marked>
        <Marked name="Joints called otherwise, one a line: Hips = pelvis" off={off.has('renamed')}>
          <textarea
            key={lines(form.renamed)}
            rows={3}
            className={`${inputLook} num h-auto py-1`}
            defaultValue={lines(form.renamed)}
            onBlur={(e) => onChange({ renamed: table(e.target.value) })}
          />
        </Marked>
        <Marked name="Files" off={off.has('files')}>
          <Select
            className="w-full"
            value={form.files}
            options={isGltf(form) ? { ...FILES, together: 'one of all clips at once' } : FILES}
            hints={{ together: 'Clips on one skeleton, each an animation of the file.' }}
            onChange={(files) => onChange({ files })}
          />
        </Marked>
        <Marked name="Folder in the server's output folder" off={off.has('folder')}>
          <input
            className={inputLook}
            value={form.folder}
            maxLength={120}
            placeholder="none"
            onChange={(e) => onChange({ folder: e.target.value })}
          />
        </Marked>
      </div>
    </details>
  )
}
