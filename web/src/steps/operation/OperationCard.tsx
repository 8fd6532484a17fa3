/** An operation in a step's panel: what it does, its parameters, a live preview, and applying it. */
import { ChevronDown, ChevronRight } from 'lucide-react'
import { type ReactNode, useEffect, useRef, useState } from 'react'
import { useCatalogue } from '../../sync/catalogue'
import { cancelPreview, startPreview } from '../../sync/previews'
import { apply } from '../../sync/write'
import { Button } from '../../ui/controls'
import { useBench } from '../../view/bench'
import { useOpenCard } from '../../view/openCard'
import { Trouble } from '../Panel'
import { PreviewNumbers } from './Outcome'
import { chosen, ParamForm, type Params } from './ParamForm'
import { beginning, ScopeChoice, type ScopeChosen, scopeOf } from './ScopeChoice'

export function OperationCard({
  name,
  count,
  first = {},
  where = 'all',
  hidden = [],
  live,
  inputs = null,
  children,
}: {
  name: string
  /** Open findings that it would mend. */
  count?: number | undefined
  /** Values to begin with where they differ from the defaults. */
  first?: Params
  /** Where it begins: on the whole body, or on what is picked by hand. */
  where?: 'all' | 'shown'
  hidden?: readonly string[]
  /** Values that come from elsewhere on the bench when it is previewed or applied. */
  live?: (() => Params) | undefined
  /** Other documents that it works with, by name and digest; asked for first where it needs some. */
  inputs?: Record<string, string | string[]> | 'to be chosen' | null
  children?: ReactNode
}) {
  const operation = useCatalogue((s) => s.operations.find((o) => o.name === name))
  const open = useOpenCard((s) => s.open === name)
  const preview = useBench((s) => (s.preview?.operation === name ? s.preview : null))
  const trouble = useBench((s) => s.previewTrouble)
  const saving = useBench((s) => s.saving)
  const [values, setValues] = useState<Params>(first)
  const at = useOpenCard((s) => (s.open === name ? s.at : null))
  const [scope, setScope] = useState(() => beginning(where))
  const card = useRef<HTMLElement>(null)
  useEffect(() => {
    if (!open) return
    card.current?.scrollIntoView({ block: 'nearest' })
    setScope(beginning(where, at))
  }, [open, at, where])
  if (!operation) return null
  const { scoped, ranged } = operation
  const within = (choice: ScopeChosen) =>
    scopeOf({ ...choice, ...(!ranged && { time: 'all' }), ...(!scoped && { joints: 'all' }) })
  const ready = inputs !== 'to be chosen'
  const given = ready ? inputs : null
  const show = (next: Params, choice = scope) =>
    ready &&
    void startPreview(name, chosen(operation, { ...next, ...live?.() }), {
      scope: within(choice),
      inputs: given,
    })
  const toggle = () => {
    if (open && preview) cancelPreview()
    useOpenCard.setState({ open: open ? null : name, at: null })
  }
  return (
    <section ref={card} className="rounded-[4px] border border-rule-2" aria-label={operation.title}>
      <h3>
        <button
          type="button"
          aria-expanded={open}
          className="flex h-8 w-full items-center gap-1.5 px-2 text-left font-semibold hover:bg-sunk"
          onClick={toggle}
        >
          {open ? <ChevronDown size={13} /> : <ChevronRight size={13} className="text-ink-3" />}
          {operation.title}
          {count !== undefined && count > 0 && (
            <span className="num ml-auto text-bad">{count}</span>
          )}
        </button>
      </h3>
      {open && (
        <div className="flex flex-col gap-2.5 border-rule border-t px-3 pt-2 pb-3">
          <p className="text-ink-2">{operation.about}</p>
          {children}
          {(scoped || ranged) && (
            <ScopeChoice
              value={scope}
              scoped={scoped}
              ranged={ranged}
              keyed={operation.keyed}
              byHand={where === 'shown'}
              onChange={(next) => {
                setScope(next)
                if (preview) show(values, next)
              }}
            />
          )}
          <ParamForm
            operation={operation}
            values={values}
            hidden={hidden}
            onChange={(next) => {
              setValues(next)
              show(next)
            }}
          />
          {/* What a preview tells comes below: it never moves what is about to be pressed. */}
          <div className="flex gap-2 bg-raised py-1 [&>button]:h-7 [&>button]:flex-1">
            {preview ? (
              <Button onClick={cancelPreview}>Discard</Button>
            ) : (
              <Button disabled={!ready} onClick={() => show(values)}>
                Preview
              </Button>
            )}
            <Button
              kind="primary"
              disabled={saving || !ready}
              onClick={() =>
                void apply(
                  name,
                  chosen(operation, { ...values, ...live?.() }),
                  within(scope),
                  undefined,
                  undefined,
                  given,
                )
              }
            >
              {saving ? 'Applying …' : 'Apply'}
            </Button>
          </div>
          {trouble && <Trouble>{trouble}</Trouble>}
          {preview && <PreviewNumbers preview={preview} />}
        </div>
      )}
    </section>
  )
}
