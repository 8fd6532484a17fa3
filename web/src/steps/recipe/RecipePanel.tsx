/** The recipe: a clip's lines with what each did, to be changed, deleted, kept, applied. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { ChevronDown, ChevronRight, X } from 'lucide-react'
import { useState } from 'react'
import { goToPlace } from '../../actions/account'
import { extractLine } from '../../actions/layers'
import { answer, client, type Schemas } from '../../api/client'
import { channelTitle } from '../../evaluation/curves'
import { useAhead } from '../../sync/ahead'
import { useCatalogue } from '../../sync/catalogue'
import { cancelPreview, startPreview } from '../../sync/previews'
import { write } from '../../sync/write'
import { Button, inputLook, Row, Tip } from '../../ui/controls'
import { counted, degrees, millimetres } from '../../ui/numbers'
import { notify, useBench } from '../../view/bench'
import { PreviewNumbers, ReportRows } from '../operation/Outcome'
import { ParamForm, type Params } from '../operation/ParamForm'
import { Panel, Trouble } from '../Panel'
import { Unplaced, unplacedIn } from './Unplaced'

type Line = Schemas['RecipeLineOut']

/** The lines of the head with their reports: asked anew when the head moves. */
function useLines() {
  const clip = useBench((s) => s.clip)
  return useQuery({
    queryKey: ['recipe', clip?.id, clip?.head.id],
    enabled: clip !== null,
    placeholderData: (old) => old,
    queryFn: () =>
      answer(
        client.GET('/api/clips/{clip_id}/recipe', {
          params: { path: { clip_id: clip!.id }, query: { revision: clip!.head.id } },
        }),
      ),
  })
}

function scopeText(line: Line): string {
  const { joints, groups, channels, frames, limbs } = line.scope
  return [
    ...(groups ?? []),
    joints && (joints.length > 2 ? `${joints.length} joints` : joints.join(', ')),
    channels?.join(', '),
    frames && `frames ${frames.join('–')}`,
    limbs && `while ${limbs.join(', ')}`,
  ]
    .filter(Boolean)
    .join(' · ')
}

function LineEditor({ line, onDone }: { line: Line; onDone: () => void }) {
  const operation = useCatalogue((s) => s.operations.find((o) => o.name === line.operation))
  const preview = useBench((s) => (s.preview?.line === line.line_id ? s.preview : null))
  const trouble = useBench((s) => s.previewTrouble)
  const saving = useBench((s) => s.saving)
  const [values, setValues] = useState<Params>(line.params)
  if (!operation) return null
  const edit = { line_id: line.line_id, operation: line.operation, scope: line.scope }
  return (
    <div className="flex flex-col gap-2 pt-1">
      <ParamForm
        operation={operation}
        values={values}
        onChange={(next) => {
          setValues(next)
          void startPreview(line.operation, next, { line: line.line_id, scope: line.scope })
        }}
      />
      {trouble && <Trouble>{trouble}</Trouble>}
      {preview && (
        <>
          <p className="text-ink-3">At this line; what follows is worked out when it is changed.</p>
          <PreviewNumbers preview={preview} />
        </>
      )}
      <div className="flex gap-2 [&>button]:h-7 [&>button]:flex-1">
        <Button
          onClick={() => {
            cancelPreview()
            onDone()
          }}
        >
          Leave it
        </Button>
        <Button
          kind="primary"
          disabled={saving || JSON.stringify(values) === JSON.stringify(line.params)}
          onClick={() => void write({ edit: { ...edit, params: values } }).then(onDone)}
        >
          Change the line
        </Button>
      </div>
    </div>
  )
}

/** What a line did by itself, and where. */
function OwnDrift({ own }: { own: Schemas['LineDriftOut'] }) {
  const place = (text: string, { name, frame }: Schemas['PlaceOut']) => (
    <button
      type="button"
      className="underline decoration-rule-2 underline-offset-2 hover:decoration-ink"
      onClick={() => goToPlace(name, frame)}
    >
      {text}, {name} {frame}
    </button>
  )
  if (own.deg.size + own.mm.size < 1e-6) return <Row name="Moves">nothing</Row>
  return (
    <>
      {own.deg.name && <Row name="Turns by">{place(degrees(own.deg.size), own.deg)}</Row>}
      {own.deg.name && <Row name="RMS">{degrees(own.deg.rms)}</Row>}
      {own.mm.name && <Row name="Moves ends by">{place(millimetres(own.mm.size), own.mm)}</Row>}
      {own.kind === 'mend' && <Row name="Fixes">{own.mended.length}</Row>}
    </>
  )
}

function Item({
  line,
  number,
  before,
}: {
  line: Line
  number: number
  before: number | undefined
}) {
  const [open, setOpen] = useState(unplacedIn(line).length > 0)
  const saving = useBench((s) => s.saving)
  const scope = scopeText(line)
  const own = useBench((s) => s.account?.lines.find((l) => l.line_id === line.line_id))
  return (
    <li className="border-rule border-b last:border-b-0">
      <div className="flex items-center gap-1">
        <button
          type="button"
          aria-expanded={open}
          className="flex min-h-8 min-w-0 flex-1 items-center gap-1.5 text-left hover:bg-sunk"
          onClick={() => setOpen(!open)}
        >
          {open ? <ChevronDown size={13} /> : <ChevronRight size={13} className="text-ink-3" />}
          <span className="num w-5 text-ink-3">{number}</span>
          <span className="min-w-0 flex-1">
            {line.told}
            {scope && <span className="block truncate text-[12px] text-ink-3">{scope}</span>}
            {line.aside && (
              <span className="block text-[12px] text-bad">set aside: {line.aside}</span>
            )}
          </span>
          {own && own.deg.size + own.mm.size > 1e-6 && (
            <span className="num whitespace-nowrap text-[12px] text-ink-2" title={own.kind}>
              {own.kind === 'mend' ? 'mends ' : ''}
              {degrees(own.deg.size)}
            </span>
          )}
          {before !== undefined && before !== line.keys && (
            <span className="num whitespace-nowrap text-[12px] text-ink-2">
              {counted(line.keys, 'key')}
            </span>
          )}
        </button>
        {number > 1 && (
          <Button
            kind="quiet"
            className="w-6 px-0"
            disabled={saving}
            aria-label={`Delete line ${number}, ${line.told}`}
            onClick={() => void write({ remove: line.line_id })}
          >
            <X size={14} />
          </Button>
        )}
      </div>
      {open && (
        <div className="pb-3 pl-7">
          <Unplaced line={line} />
          <dl>
            <ReportRows report={line.report} />
            {own && <OwnDrift own={own} />}
          </dl>
          {own && own.kind !== 'layer' && own.deg.size + own.mm.size > 1e-6 && (
            <Tip text="What it changed becomes a layer over the clip, and the line is deleted">
              <Button disabled={saving} onClick={() => void extractLine(line)}>
                Into a layer
              </Button>
            </Tip>
          )}
          <LineEditor key={JSON.stringify(line.params)} line={line} onDone={() => setOpen(false)} />
        </div>
      )}
    </li>
  )
}

function Keep({ lines }: { lines: Line[] }) {
  const { workspace, take_rate: rate } = useBench((s) => s.clip!)
  const queries = useQueryClient()
  const [name, setName] = useState('')
  const keep = useMutation({
    mutationFn: () =>
      answer(
        client.POST('/api/workspaces/{workspace_id}/recipes', {
          params: { path: { workspace_id: workspace } },
          body: {
            name: name.trim(),
            rate,
            lines: lines
              .filter((line) => !line.aside)
              .map(({ operation, params, scope }) => ({ operation, params, scope })),
          },
        }),
      ),
    onSuccess: (kept) => {
      setName('')
      notify(`Kept as the recipe ${kept.name}.`)
      void queries.invalidateQueries({ queryKey: ['recipes'] })
    },
    onError: (trouble) => notify(trouble.message),
  })
  return (
    <div className="flex gap-1.5">
      <input
        aria-label="Name of the recipe"
        placeholder="Keep these lines as …"
        className={`${inputLook} h-6 flex-1 placeholder:text-ink-3`}
        value={name}
        onChange={(e) => setName(e.target.value)}
        onKeyDown={(e) => e.key === 'Enter' && name.trim() && keep.mutate()}
      />
      <Button disabled={!name.trim() || lines.length < 2} onClick={() => keep.mutate()}>
        Keep recipe
      </Button>
    </div>
  )
}

export const useRecipes = (workspace: number) =>
  useQuery({
    queryKey: ['recipes', workspace],
    enabled: workspace > 0,
    queryFn: () =>
      answer(
        client.GET('/api/workspaces/{workspace_id}/recipes', {
          params: { path: { workspace_id: workspace } },
        }),
      ),
  })

function Apply() {
  const workspace = useBench((s) => s.clip!.workspace)
  const saving = useBench((s) => s.saving)
  const recipes = useRecipes(workspace)
  const [chosen, setChosen] = useState(0)
  const recipe = recipes.data?.find((r) => r.id === chosen)
  const run = useAhead<number>('recipe', (which) => void write({ recipe: which }, 'The recipe'))
  return (
    <section className="flex flex-col gap-1.5">
      <h3 className="font-semibold text-ink-2">Apply a recipe after these lines</h3>
      {run.trouble && <Trouble>{run.trouble}</Trouble>}
      <div className="flex gap-1.5">
        <select
          aria-label="Recipe to apply"
          className={`${inputLook} h-7 min-w-0 flex-1`}
          value={chosen}
          onChange={(e) => setChosen(Number(e.target.value))}
        >
          {recipes.data?.map((r) => (
            <option key={r.id} value={r.id}>
              {r.name}
            </option>
          ))}
        </select>
        <Button
          kind="primary"
          className="h-7"
          disabled={saving || run.running || !recipe}
          onClick={() => void run.begin({ recipe: chosen }, chosen)}
        >
          {run.running ? `Running … ${Math.round(100 * run.progress)} %` : 'Apply recipe'}
        </Button>
      </div>
      {run.running && (
        <div className="flex items-center gap-2">
          <progress className="min-w-0 flex-1" max={1} value={run.progress} aria-label="Recipe" />
          <Button onClick={() => run.cancel('The recipe was stopped; nothing has changed.')}>
            Cancel
          </Button>
        </div>
      )}
      <ol className="list-decimal pl-6 text-[12px] text-ink-2">
        {recipe?.told.map((text, k) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: lines may be alike, their order is theirs
          <li key={k}>{text}</li>
        ))}
      </ol>
    </section>
  )
}

/** Something without a place, in a few words. */
function placeText(what: Record<string, unknown>): string {
  const { joint, channel, frame, frames, operation, aside } = what
  const where = frames ?? frame
  return [
    operation,
    joint,
    typeof channel === 'string' && channel ? channelTitle(channel) : '',
    where === undefined ? '' : `frame ${Array.isArray(where) ? where.join('–') : String(where)}`,
    aside ? `(${String(aside)})` : '',
  ]
    .filter(Boolean)
    .join(' ')
}

export function RecipePanel() {
  const clip = useBench((s) => s.clip)
  const lines = useLines()
  const unplaced = (clip?.head.report.unplaced ?? []) as Record<string, unknown>[]
  return (
    <Panel title="Recipe" lead="What was done, line by line. Change one and all after it follows.">
      {unplaced.length > 0 && (
        <Trouble>
          {counted(unplaced.length, 'part')} of the recipe found no place:{' '}
          {unplaced.slice(0, 3).map(placeText).join('; ')}
        </Trouble>
      )}
      {lines.isError && <Trouble>{lines.error.message}</Trouble>}
      {lines.isPending && <p className="text-ink-3">Reading the recipe …</p>}
      <ol aria-label="Lines of the recipe">
        {lines.data?.map((line, k) => (
          <Item
            key={line.line_id}
            line={line}
            number={k + 1}
            before={k ? lines.data[k - 1]!.keys : undefined}
          />
        ))}
      </ol>
      {lines.data && <Keep lines={lines.data} />}
      <Apply />
    </Panel>
  )
}
