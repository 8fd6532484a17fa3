/** Parameters of an operation as the server describes them: a fitting control each. */
import { useId, useState } from 'react'
import type { Operation } from '../../sync/catalogue'
import { Check, inputLook, Slider, Toggle } from '../../ui/controls'
import { useBench } from '../../view/bench'

export type Params = Record<string, unknown>
type Param = Operation['params'][number]

/** Ends of limbs that can be led. */
const ENDS = ['left hand', 'right hand', 'left foot', 'right foot']

/** Parameters up to which a form has room to say what each does. */
const ROOMY = 4
const TOLD = 'text-[11px] text-ink-3 leading-snug'
/** What unit a line's lengths are in: lines that are made here have millimetres. */
const LENGTHS = 'lengths'

function NumberField({
  param,
  value,
  field,
  about,
  onChange,
}: {
  param: Param
  value: unknown
  field: string
  about: string
  onChange: (v: unknown) => void
}) {
  const shown = value === null || value === undefined ? '' : String(value)
  const commit = (text: string) => {
    if (text.trim() === '' && param.optional) return onChange(null)
    const typed = Number(text)
    if (text.trim() !== '' && Number.isFinite(typed))
      onChange(param.kind === 'integer' ? Math.round(typed) : typed)
  }
  return (
    <input
      key={shown}
      className={`${inputLook} num h-6 w-20 text-right`}
      inputMode="decimal"
      id={field}
      aria-describedby={about}
      placeholder={param.optional ? 'auto' : ''}
      defaultValue={shown}
      onKeyDown={(e) => e.key === 'Enter' && commit(e.currentTarget.value)}
      onBlur={(e) => e.currentTarget.value !== shown && commit(e.currentTarget.value)}
    />
  )
}

/** Some of a few: none of them pressed means all. */
function Several({
  id,
  about,
  choices,
  value,
  onChange,
}: {
  id: string
  about: string
  choices: readonly string[]
  value: readonly string[]
  onChange: (v: string[]) => void
}) {
  return (
    <fieldset id={id} aria-describedby={about} className="flex gap-1">
      {choices.map((c) => (
        <Toggle
          key={c}
          on={value.includes(c)}
          onClick={() => onChange(value.includes(c) ? value.filter((v) => v !== c) : [...value, c])}
        >
          {c.length === 1 ? c.toUpperCase() : c}
        </Toggle>
      ))}
    </fieldset>
  )
}

/** Whether a parameter counts with the values that others have. */
function counts(param: Param, operation: Operation, values: Params): boolean {
  return Object.entries(param.when).every(([other, allowed]) =>
    allowed.includes(values[other] ?? operation.params.find((p) => p.name === other)?.default),
  )
}

export function ParamForm({
  operation,
  values,
  onChange,
  hidden = [],
}: {
  operation: Operation
  values: Params
  onChange: (values: Params) => void
  hidden?: readonly string[]
}) {
  const joints = useBench((s) => s.clip?.joints)
  const props = useBench((s) => s.clip?.props)
  /** What is led along the floor is not led up. */
  const upAxis = useBench((s) => s.clip?.reading.up_axis)
  const same = (name: string) => [name, name] as const
  /** Texts that are names of what is there. */
  const named: Record<string, (readonly [string, string])[]> = {
    joint: [['', 'choose a joint'], ...(joints ?? []).map((j) => same(j.name))],
    part: ENDS.map(same),
    floor: [['', 'the floor'], ...(props ?? []).map((p) => same(p.name))],
  }
  const id = useId()
  const shown = operation.params.filter(
    (p) =>
      p.kind !== 'other' &&
      p.name !== LENGTHS &&
      !hidden.includes(p.name) &&
      counts(p, operation, values),
  )
  // A short form says under each label what it does; a long one in one place of its own what the
  // label does that had the focus last, so that nothing moves that is about to be pressed.
  const roomy = shown.length <= ROOMY
  const [asked, setAsked] = useState('')
  return (
    <div className="flex flex-col gap-1.5">
      {shown.map((param) => {
        const value = values[param.name] ?? param.default
        const set = (v: unknown) => onChange({ ...values, [param.name]: v })
        const field = `${id}${param.name}`
        const about = `${field}about`
        return (
          // biome-ignore lint/a11y/noStaticElementInteractions: it only notes which field is in use
          <div
            key={param.name}
            title={param.description}
            onFocus={() => setAsked(param.description)}
          >
            {param.kind === 'switch' ? (
              <Check on={Boolean(value)} onChange={set} about={about}>
                {param.label}
              </Check>
            ) : param.unit === '%' ? (
              <Slider
                label={param.label}
                shown={`${Math.round(Number(value))} %`}
                typed={(share) => set(100 * share)}
                min={0}
                max={100}
                step={1}
                value={[Number(value)]}
                onValueChange={([v]) => set(v!)}
              />
            ) : (
              <div className="flex min-h-6 items-center justify-between gap-2 text-ink-2">
                <label htmlFor={field}>{param.label}</label>
                <span className="flex items-center gap-1.5">
                  {param.kind === 'choice' && (
                    <select
                      id={field}
                      aria-describedby={about}
                      className={`${inputLook} h-6`}
                      value={String(value)}
                      onChange={(e) => set(e.target.value)}
                    >
                      {param.choices.map((c) => (
                        <option key={c} value={c}>
                          {c.replaceAll('_', ' ')}
                        </option>
                      ))}
                    </select>
                  )}
                  {param.kind === 'several' && (
                    <Several
                      id={field}
                      about={about}
                      choices={param.choices.filter((c) => c !== upAxis)}
                      value={(value as string[] | undefined) ?? []}
                      onChange={set}
                    />
                  )}
                  {param.kind === 'text' && named[param.name] && (
                    <select
                      id={field}
                      aria-describedby={about}
                      className={`${inputLook} h-6 w-36`}
                      value={String(value ?? '')}
                      onChange={(e) => set(e.target.value)}
                    >
                      {named[param.name]!.map(([name, text]) => (
                        <option key={name} value={name}>
                          {text}
                        </option>
                      ))}
                    </select>
                  )}
                  {param.kind === 'text' && !named[param.name] && (
                    <input
                      key={String(value)}
                      id={field}
                      aria-describedby={about}
                      className={`${inputLook} num h-6 w-28`}
                      defaultValue={String(value ?? '')}
                      onKeyDown={(e) => e.key === 'Enter' && set(e.currentTarget.value)}
                      onBlur={(e) => e.currentTarget.value !== value && set(e.currentTarget.value)}
                    />
                  )}
                  {(param.kind === 'number' || param.kind === 'integer') && (
                    <NumberField
                      param={param}
                      value={value}
                      field={field}
                      about={about}
                      onChange={set}
                    />
                  )}
                  {param.unit && <span className="w-11 text-ink-3">{param.unit}</span>}
                </span>
              </div>
            )}
            <p id={about} className={roomy ? TOLD : 'hidden'}>
              {param.description}
            </p>
          </div>
        )
      })}
      {!roomy && <p className={`min-h-[30px] ${TOLD}`}>{asked}</p>}
    </div>
  )
}

/** Only what differs from the defaults is sent: a recipe's line stays readable. */
export function chosen(operation: Operation, values: Params): Params {
  return Object.fromEntries(
    Object.entries(values).filter(
      ([name, v]) => v !== null && operation.params.find((p) => p.name === name)?.default !== v,
    ),
  )
}
