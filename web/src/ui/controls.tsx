/** Radix primitives in our look. */
import { Dialog as D, Popover as P, Slider as S, Tooltip as T, Tabs as Tab } from 'radix-ui'
import type { ButtonHTMLAttributes, ReactNode } from 'react'

type Kind = 'plain' | 'primary' | 'quiet' | 'on'

const KINDS: Record<Kind, string> = {
  plain: 'border-rule-2 bg-paper text-ink hover:border-ink-3',
  primary: 'border-signal bg-signal text-on-signal font-semibold hover:brightness-110',
  quiet: 'border-transparent bg-transparent text-ink-2 hover:text-ink hover:bg-sunk',
  on: 'border-ink bg-ink text-raised',
}

export function Button({
  kind = 'plain',
  className = '',
  ...rest
}: ButtonHTMLAttributes<HTMLButtonElement> & { kind?: Kind }) {
  return (
    <button
      type="button"
      {...rest}
      className={`inline-flex h-6 shrink-0 items-center justify-center gap-1.5 whitespace-nowrap rounded-[3px] border px-2 disabled:opacity-45 ${KINDS[kind]} ${className}`}
    />
  )
}

/** A button that is on or off. */
export function Toggle({ on, ...rest }: ButtonHTMLAttributes<HTMLButtonElement> & { on: boolean }) {
  return <Button {...rest} kind={on ? 'on' : 'plain'} aria-pressed={on} />
}

export function Tip({ text, children }: { text: string; children: ReactNode }) {
  return (
    <T.Root delayDuration={500}>
      <T.Trigger asChild>{children}</T.Trigger>
      <T.Portal>
        <T.Content
          sideOffset={5}
          className="z-50 rounded-[3px] bg-ink px-2 py-1 text-[12px] text-raised"
        >
          {text}
        </T.Content>
      </T.Portal>
    </T.Root>
  )
}

export function Slider({
  label,
  shown,
  typed,
  ...rest
}: S.SliderProps & {
  label: string
  shown: string
  /** A percentage that may be typed as well. */
  typed?: (share: number) => void
}) {
  const percent = Number.parseFloat(shown)
  return (
    <div className="flex flex-col gap-2">
      <div className="flex items-center justify-between text-ink-2">
        <span>{label}</span>
        {typed ? (
          <span className="num flex items-center gap-1 text-ink">
            <NumberInput
              label={`${label}, percent`}
              className="w-12"
              digits={0}
              value={percent}
              onCommit={(v) => typed(Math.min(Math.max(v, 0), 100) / 100)}
            />
            %
          </span>
        ) : (
          <span className="num text-ink">{shown}</span>
        )}
      </div>
      <S.Root className="relative flex h-4 touch-none select-none items-center" {...rest}>
        <S.Track className="relative h-1 grow rounded-full bg-sunk">
          <S.Range className="absolute h-full rounded-full bg-calm" />
        </S.Track>
        <S.Thumb
          aria-label={label}
          aria-valuetext={shown}
          className="block size-3.5 rounded-full border-2 border-calm bg-raised"
        />
      </S.Root>
    </div>
  )
}

export function Dialog({
  open,
  onClose,
  title,
  children,
  wide = false,
}: {
  open: boolean
  onClose: () => void
  title: string
  children: ReactNode
  wide?: boolean
}) {
  return (
    <D.Root open={open} onOpenChange={(next) => !next && onClose()}>
      <D.Portal>
        <D.Overlay className="fixed inset-0 z-40 bg-[var(--veil)]" />
        <D.Content
          aria-describedby={undefined}
          className={`fixed top-[12vh] left-1/2 z-50 flex max-h-[76vh] -translate-x-1/2 flex-col rounded-md border border-rule-2 bg-raised shadow-xl ${wide ? 'w-[640px]' : 'w-[460px]'}`}
        >
          <D.Title className="border-rule border-b px-4 py-3 font-semibold text-[15px]">
            {title}
          </D.Title>
          {children}
        </D.Content>
      </D.Portal>
    </D.Root>
  )
}

export function Popover({
  trigger,
  name,
  still = false,
  children,
}: {
  trigger: ReactNode
  /** What it shows, for those who do not see its trigger. */
  name: string
  /** Opened by keyboard, hold the focus itself: Enter pressed once more does nothing. */
  still?: boolean
  children: ReactNode
}) {
  return (
    <P.Root>
      <P.Trigger asChild>{trigger}</P.Trigger>
      <P.Portal>
        <P.Content
          aria-label={name}
          onOpenAutoFocus={(e) => {
            if (!still) return
            e.preventDefault()
            ;(e.currentTarget as HTMLElement).focus()
          }}
          sideOffset={6}
          className="z-40 rounded-md border border-rule-2 bg-raised p-3 shadow-lg"
        >
          {children}
        </P.Content>
      </P.Portal>
    </P.Root>
  )
}

/** A row of a table of numbers: a name and its value with unit. */
export function Row({ name, children }: { name: string; children: ReactNode }) {
  return (
    <div className="flex items-baseline justify-between gap-3 border-rule border-b py-1.5">
      <dt className="text-ink-2">{name}</dt>
      <dd className="num text-right">{children}</dd>
    </div>
  )
}

export function Field({ label, children }: { label: ReactNode; children: ReactNode }) {
  return (
    // biome-ignore lint/a11y/noLabelWithoutControl: the control is the child
    <label className="flex flex-col gap-1 text-ink-2">
      {label}
      {children}
    </label>
  )
}

/** A choice among options: their values and what they are called. */
export function Select<T extends string>({
  label,
  value,
  options,
  hints = {},
  onChange,
  disabled = false,
  className = '',
}: {
  /** Said to those who do not see what stands beside it. */
  label?: string | undefined
  /** Empty where several differ. */
  value: T | ''
  options: Record<T, string>
  /** What options mean that their names do not say. */
  hints?: Record<string, string>
  onChange: (value: T) => void
  disabled?: boolean
  className?: string
}) {
  return (
    <select
      aria-label={label}
      title={hints[value]}
      className={`${inputLook} h-6 ${className}`}
      value={value}
      disabled={disabled}
      onChange={(e) => onChange(e.target.value as T)}
    >
      {value === '' && !('' in options) && <option value="">several</option>}
      {(Object.entries(options) as [T, string][]).map(([name, text]) => (
        <option key={name} value={name} title={hints[name]}>
          {text}
        </option>
      ))}
    </select>
  )
}

/** A choice with its name above it. */
export function Choice({
  label,
  ...rest
}: {
  label: string
  value: string
  options: Record<string, string>
  onChange: (value: string) => void
  disabled?: boolean
}) {
  return (
    <Field label={label}>
      <Select {...rest} className="w-full" />
    </Field>
  )
}

/** A number to type: kept on Enter or when it is left, put back on Escape. */
export function NumberInput({
  label,
  value,
  onCommit,
  onAdd,
  digits = 3,
  placeholder = '',
  before = '',
  className = 'w-16',
}: {
  label: string
  /** A letter before the number, such as its axis. */
  before?: string
  /** Null where several differ. */
  value: number | null
  onCommit: (value: number) => void
  /** "+5" typed: so much more, for each where several differ. */
  onAdd?: (by: number) => void
  digits?: number
  placeholder?: string
  className?: string
}) {
  const shown = value === null ? '' : String(Number(value.toFixed(digits)))
  const commit = (input: HTMLInputElement) => {
    const text = input.value.trim().replace('−', '-')
    if (text === '' || text === shown) return
    const more = text.startsWith('+') && onAdd
    const typed = Number(more ? text.slice(1) : text)
    if (!Number.isFinite(typed) || text === '+') {
      input.value = shown
      return
    }
    if (more) more(typed)
    else onCommit(typed)
    // Where nothing comes of it the field shows what stands.
    if (more) input.value = shown
  }
  const input = (
    <input
      key={shown}
      aria-label={label}
      inputMode="decimal"
      placeholder={placeholder}
      defaultValue={shown}
      className={`${inputLook} num h-6 px-1 text-right ${before ? 'w-full pl-4' : className}`}
      onKeyDown={(e) => {
        if (e.key === 'Escape') e.currentTarget.value = shown
        if (e.key === 'Enter' || e.key === 'Escape') e.currentTarget.blur()
      }}
      onBlur={(e) => commit(e.currentTarget)}
    />
  )
  if (!before) return input
  return (
    <span className={`relative ${className}`}>
      <span aria-hidden className="num absolute top-1 left-1 text-[11px] text-ink-3">
        {before}
      </span>
      {input}
    </span>
  )
}

/** A box to tick, its words beside it. */
export function Check({
  on,
  onChange,
  title,
  about,
  children,
}: {
  on: boolean
  onChange: (on: boolean) => void
  title?: string | undefined
  /** The element that says what it does. */
  about?: string
  children: ReactNode
}) {
  return (
    <label className="flex min-h-6 items-center gap-2" title={title}>
      <input
        type="checkbox"
        className="size-3.5 accent-[var(--calm)]"
        aria-describedby={about}
        checked={on}
        onChange={(e) => onChange(e.target.checked)}
      />
      {children}
    </label>
  )
}

/** Parts of a panel, one shown at a time. */
export function Tabs({
  label,
  tabs,
  shown,
  onShow,
}: {
  label: string
  tabs: readonly { name: string; title: string; content: ReactNode }[]
  shown: string
  onShow: (tab: string) => void
}) {
  return (
    <Tab.Root value={shown} onValueChange={onShow} className="flex min-h-0 flex-1 flex-col gap-3">
      <Tab.List
        aria-label={label}
        className="-mx-1 flex shrink-0 justify-between border-rule-2 border-b"
      >
        {tabs.map(({ name, title }) => (
          <Tab.Trigger
            key={name}
            value={name}
            className="-mb-px h-7 border-transparent border-b-2 px-1 text-ink-2 hover:text-ink max-[1100px]:px-0.5 max-[1100px]:text-[12px] data-[state=active]:border-signal data-[state=active]:font-semibold data-[state=active]:text-ink"
          >
            {title}
          </Tab.Trigger>
        ))}
      </Tab.List>
      {tabs.map(({ name, content }) => (
        <Tab.Content key={name} value={name} className="flex min-h-0 flex-1 flex-col gap-3">
          {content}
        </Tab.Content>
      ))}
    </Tab.Root>
  )
}

export const inputLook =
  'h-7 min-w-0 rounded-[3px] border border-rule-2 bg-paper px-2 text-ink disabled:opacity-50'
