/** The shelf: the workspace's takes, and files on their way in. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { Upload, X } from 'lucide-react'
import { useEffect, useRef, useState } from 'react'
import { Link, useLocation, useNavigate } from 'react-router'
import { answer, client, clipOfTake, type Schemas, sendFiles } from '../api/client'
import { Account } from '../session/Account'
import { prefer, signOut, theme, useSession } from '../session/session'
import { Button, Tip } from '../ui/controls'
import { bytes, counted, grouped } from '../ui/numbers'
import type { Binned } from '../view/binned'
import { Bin, putBackInto, useBin } from './Bin'
import { DeliverMany } from './DeliverMany'
import { People } from './People'
import { RetargetMany } from './RetargetMany'
import { RunRecipe } from './RunRecipe'
import { TablesOnto } from './TablesOnto'
import { TakeCard } from './TakeCard'
import { Trim } from './Trim'

/** Takes in their order, those that were retargeted from a clip of one right after it. */
function underTheirSources(takes: readonly Take[]): Take[] {
  const listed = new Set(takes.map((t) => t.id))
  const over = (t: Take) => (t.source && listed.has(t.source.take) ? t.source.take : null)
  const seen = new Set<number>()
  const withOwn = (take: Take): Take[] => {
    if (seen.has(take.id)) return []
    seen.add(take.id)
    return [take, ...takes.filter((t) => over(t) === take.id).flatMap(withOwn)]
  }
  const first = takes.filter((t) => over(t) === null)
  // Whatever is under itself in a ring comes last.
  return [...first, ...takes].flatMap(withOwn)
}

/** Takes in their order, those that came in one file together where the first of them stands; what
 * was retargeted stays with its source. A take that came alone is a group of one. */
function byFile(takes: readonly Take[]): Take[][] {
  const groups: Take[][] = []
  const at = new Map<number, Take[]>()
  const listed = new Map<number, Take[]>()
  for (const take of takes) {
    const known = (take.source && listed.get(take.source.take)) ?? at.get(take.file)
    const group = known ?? []
    if (!known) groups.push(group)
    group.push(take)
    listed.set(take.id, group)
    if (!take.source) at.set(take.file, group)
  }
  return groups
}

type Job = Schemas['JobOut']
type Take = Schemas['TakeOut']

const DOING: Record<string, string> = {
  import: 'reading',
  read: 'reading',
  retarget: 'retargeting',
  join: 'joining',
}

function JobRow({ job, onDone }: { job: Job; onDone: () => void }) {
  const failed = job.state === 'failed'
  const end = async () => {
    const params = { path: { job_id: job.id } }
    await (failed
      ? client.DELETE('/api/jobs/{job_id}', { params })
      : client.POST('/api/jobs/{job_id}/cancel', { params }))
    onDone()
  }
  return (
    <li
      className={`flex items-center gap-3 rounded-[4px] border bg-raised px-3 py-2 ${failed ? 'border-bad' : 'border-rule-2'}`}
    >
      <span className="min-w-0 flex-1">
        {failed ? (
          <span role="alert" className="text-bad">
            {job.message}
          </span>
        ) : (
          <>
            {job.title}{' '}
            <span className="text-ink-3">
              {job.state === 'queued'
                ? 'waiting'
                : job.cancel_requested
                  ? 'stopping'
                  : DOING[job.kind]}
            </span>
          </>
        )}
      </span>
      {!failed && (
        <progress
          className="h-1.5 w-40 accent-[var(--calm)]"
          max={1}
          value={job.progress}
          aria-label={`Progress of ${job.title}`}
        />
      )}
      <Button
        kind="quiet"
        aria-label={failed ? `Dismiss ${job.title}` : `Cancel ${job.title}`}
        onClick={() => void end()}
      >
        <X size={14} />
      </Button>
    </li>
  )
}

/** What was done to many at once: how many it is of, how many are still open or failed. */
interface Done {
  to: string
  name: string
  all: number
  open: number
  failed: number
}

function DoneAtOnce({ label, word, done }: { label: string; word: string; done: Done[] }) {
  return (
    <nav aria-label={label} className="flex flex-wrap items-center gap-2">
      <span className="text-ink-2">{label}</span>
      {done.slice(0, MOST_SHOWN).map(({ to, name, all, open, failed }) => (
        <Link
          key={to}
          to={to}
          className="flex h-6 items-center gap-1.5 rounded-[3px] border border-rule-2 bg-raised px-2 hover:border-ink-3"
        >
          {name}
          <span className="num text-ink-2">
            {open > 0 ? `${all - open} of ${counted(all, word)}` : counted(all, word)}
          </span>
          {failed > 0 && <span className="num text-bad">{failed} failed</span>}
        </Link>
      ))}
    </nav>
  )
}

/** Recipes that were run on many takes: each leads to its table. */
function Batches({ batches }: { batches: Schemas['BatchOut'][] }) {
  const done = batches.map(({ id, name, rows }) => ({
    to: `/batch/${id}`,
    name,
    all: rows.length,
    open: rows.filter((r) => r.state === 'queued' || r.state === 'running').length,
    failed: rows.filter((r) => r.state === 'failed').length,
  }))
  return <DoneAtOnce label="Recipes run" word="take" done={done} />
}

/** Deliveries, the newest first: each leads to its files. */
function Handovers({ handovers }: { handovers: Schemas['HandoverTold'][] }) {
  const done = handovers.map(({ id, number, clips, open, failed }) => ({
    to: `/delivery/${id}`,
    name: `Delivery ${number}`,
    all: clips,
    open,
    failed,
  }))
  return <DoneAtOnce label="Delivered" word="clip" done={done} />
}

/** How much the workspace holds of what it may, said louder before there is no room. */
function Room({ workspace }: { workspace: number }) {
  const usage = useQuery({
    queryKey: ['usage', workspace],
    queryFn: () =>
      answer(
        client.GET('/api/workspaces/{workspace_id}/usage', {
          params: { path: { workspace_id: workspace } },
        }),
      ),
  })
  const u = usage.data
  if (!u) return null
  return (
    <Tip
      text={`Files ${bytes(u.files)}, clips and their histories ${bytes(u.clips)}, deliveries ${bytes(u.deliveries)}; ${counted(u.takes, 'take')} of ${grouped(u.most_takes)} it may hold.`}
    >
      <span className={`num whitespace-nowrap ${u.nearly_full ? 'text-warn' : 'text-ink-2'}`}>
        {u.nearly_full ? 'little room left: ' : ''}
        {bytes(u.bytes)} of {bytes(u.most_bytes)}
      </span>
    </Tip>
  )
}

const MOST_SHOWN = 6
const CARDS = 'grid grid-cols-[repeat(auto-fill,minmax(340px,1fr))] gap-4'

const ORDERS = {
  newest: { text: 'newest first', by: (a: Take, b: Take) => b.id - a.id },
  work: { text: 'most work first', by: (a: Take, b: Take) => b.work - a.work },
  name: { text: 'by name', by: (a: Take, b: Take) => a.name.localeCompare(b.name) },
  longest: {
    text: 'longest first',
    by: (a: Take, b: Take) => lasts(b) - lasts(a),
  },
}
const lasts = (t: Take) => (t.frames * t.rate[1]!) / t.rate[0]!

export function Shelf() {
  const user = useSession((s) => s.user)
  const workspaces = useSession((s) => s.workspaces)
  const shownTheme = useSession((s) => s.preferences.theme) ?? theme()
  const [chosen, setChosen] = useState<number | null>(null)
  const workspace = workspaces.find((w) => w.id === chosen) ?? workspaces[0]
  const id = workspace?.id ?? 0
  const input = useRef<HTMLInputElement>(null)
  const [picked, setPicked] = useState<ReadonlySet<number>>(new Set())
  const [running, setRunning] = useState(false)
  const [retargeting, setRetargeting] = useState(false)
  const [delivering, setDelivering] = useState(false)
  const [trimming, setTrimming] = useState<Take | null>(null)
  const [order, setOrder] = useState<keyof typeof ORDERS>('newest')
  const [over, setOver] = useState(false)
  const [refused, setRefused] = useState<string[]>([])
  const [tables, setTables] = useState<File[]>([])
  const told = (useLocation().state as { binned?: Binned } | null)?.binned ?? null
  const [binned, setBinned] = useState<Binned | null>(told)
  const [shown, setShown] = useState<'bin' | 'people' | 'account' | null>(null)
  const reads = useSession((s) => s.reads)
  const runsStudio = useSession((s) => s.runsStudio)
  const changes = workspace !== undefined && workspace.role !== 'viewer'
  const owns = workspace?.role === 'owner'
  const queries = useQueryClient()
  const navigate = useNavigate()

  const path = { workspace_id: id }
  const bin = useBin(id)
  const takes = useQuery({
    queryKey: ['takes', id],
    enabled: id > 0,
    queryFn: () => answer(client.GET('/api/workspaces/{workspace_id}/takes', { params: { path } })),
  })
  const batches = useQuery({
    queryKey: ['batches', id],
    enabled: id > 0,
    queryFn: () =>
      answer(client.GET('/api/workspaces/{workspace_id}/batches', { params: { path } })),
  })
  const handovers = useQuery({
    queryKey: ['handovers', id],
    enabled: id > 0,
    queryFn: () =>
      answer(client.GET('/api/workspaces/{workspace_id}/handovers', { params: { path } })),
  })
  const jobs = useQuery({
    queryKey: ['jobs', id],
    enabled: id > 0,
    queryFn: async () => {
      const of = (kind: string) =>
        answer(
          client.GET('/api/workspaces/{workspace_id}/jobs', { params: { path, query: { kind } } }),
        )
      return (await Promise.all(Object.keys(DOING).map(of))).flat()
    },
    refetchInterval: (query) => (query.state.data?.some((j) => j.state !== 'failed') ? 250 : 5000),
  })
  // A job that leaves the list has become a take.
  const busy = jobs.data?.filter((j) => j.state !== 'failed').length ?? 0
  // biome-ignore lint/correctness/useExhaustiveDependencies: the count is the signal
  useEffect(() => {
    void queries.invalidateQueries({ queryKey: ['takes'] })
  }, [busy, queries])

  const joinChosen = useMutation({
    mutationFn: (takes: number[]) =>
      answer(
        client.POST('/api/workspaces/{workspace_id}/join', { params: { path }, body: { takes } }),
      ),
    onSettled: () => queries.invalidateQueries({ queryKey: ['jobs'] }),
  })

  const upload = useMutation({
    mutationFn: ({ files, onto }: { files: File[]; onto?: string }) =>
      sendFiles<Schemas['UploadOut']>(
        `/api/workspaces/${id}/files`,
        'files',
        files,
        onto ? { onto } : {},
      ),
    onSuccess: (out) => setRefused(out.refused.map((r) => r.detail)),
    onError: (trouble) => setRefused([trouble.message]),
    onSettled: () => queries.invalidateQueries({ queryKey: ['jobs'] }),
  })
  const bring = (list: FileList | null) => {
    const files = [...(list ?? [])]
    const tables = files.filter((f) => /\.csv$/i.test(f.name))
    const others = files.filter((f) => !tables.includes(f))
    if (others.length) upload.mutate({ files: others })
    if (tables.length) setTables(tables)
  }
  /** Something went into the bin, or came back. */
  const moved = () => {
    for (const name of ['takes', 'bin', 'usage'])
      void queries.invalidateQueries({ queryKey: [name] })
  }
  const remove = useMutation({
    mutationFn: (take: Take) =>
      answer(client.DELETE('/api/takes/{take_id}', { params: { path: { take_id: take.id } } })),
    onSuccess: (_, take) => {
      setBinned({ kind: 'take', id: take.id, name: take.name, workspace: id })
      setPicked(new Set([...picked].filter((p) => p !== take.id)))
    },
    onError: (trouble) => setRefused([trouble.message]),
    onSettled: moved,
  })
  const putBack = useMutation({
    mutationFn: (back: Binned) => putBackInto(back.workspace, back),
    onSuccess: (_, back) => {
      setBinned(null)
      if (back.kind === 'clip') navigate(`/clip/${back.id}`)
    },
    onError: (trouble) => setRefused([trouble.message]),
    onSettled: moved,
  })
  const open = async (take: Schemas['TakeOut']) => {
    try {
      navigate(`/clip/${(await clipOfTake(take.id)).id}`)
    } catch (trouble) {
      setRefused([(trouble as Error).message])
    }
  }

  const card = (take: Take) => (
    <TakeCard
      key={take.id}
      take={take}
      picked={picked.has(take.id)}
      onPick={(on) => {
        const next = new Set(picked)
        if (on) next.add(take.id)
        else next.delete(take.id)
        setPicked(next)
      }}
      onOpen={() => void open(take)}
      onTrim={changes && take.frames > 2 ? () => setTrimming(take) : null}
      onDelete={changes ? () => remove.mutate(take) : null}
    />
  )
  return (
    <div className="flex h-full flex-col">
      <header className="flex h-10 shrink-0 items-center gap-3 border-rule-2 border-b bg-raised px-4">
        <span className="font-semibold">Lean Curve</span>
        <span className="text-ink-3">›</span>
        {workspaces.length > 1 ? (
          <select
            aria-label="Workspace"
            className="h-6 rounded-[3px] border border-rule-2 bg-paper px-1"
            value={id}
            onChange={(e) => setChosen(Number(e.target.value))}
          >
            {workspaces.map((w) => (
              <option key={w.id} value={w.id}>
                {w.name}
              </option>
            ))}
          </select>
        ) : (
          <h1 className="font-semibold">{workspace?.name ?? 'Shelf'}</h1>
        )}
        {!changes && workspace && (
          <span className="rounded-[3px] border border-rule-2 px-1.5 text-ink-2">viewing</span>
        )}
        <span className="flex-1" />
        {id > 0 && (
          <>
            <Room workspace={id} />
            <Button onClick={() => setShown('bin')}>
              Bin{(bin.data?.length ?? 0) > 0 && <span className="num">{bin.data?.length}</span>}
            </Button>
            <Button onClick={() => setShown('people')}>People</Button>
          </>
        )}
        {runsStudio && (
          <Link to="/studio" className="hover:underline">
            The studio
          </Link>
        )}
        <span className="text-ink-3">|</span>
        <Button aria-label={`Account of ${user}`} onClick={() => setShown('account')}>
          {user}
        </Button>
        <Button onClick={() => prefer({ theme: shownTheme === 'night' ? 'chart' : 'night' })}>
          {shownTheme === 'night' ? 'Chart paper' : 'Night'}
        </Button>
        <Button onClick={() => void signOut()}>Sign out</Button>
      </header>
      <main
        className={`min-h-0 flex-1 overflow-y-auto p-5 ${over ? 'bg-sunk' : ''}`}
        onDragOver={(e) => {
          e.preventDefault()
          setOver(true)
        }}
        onDragLeave={(e) => e.currentTarget === e.target && setOver(false)}
        onDrop={(e) => {
          e.preventDefault()
          setOver(false)
          bring(e.dataTransfer.files)
        }}
      >
        <div className="mx-auto flex max-w-[1160px] flex-col gap-4">
          <div
            className={`${changes ? 'flex' : 'hidden'} items-center gap-3 rounded-md border border-dashed px-4 py-3 ${over ? 'border-calm bg-raised' : 'border-rule-2'}`}
          >
            <Upload size={18} className="text-ink-2" aria-hidden />
            <p className="flex-1 text-ink-2">
              Drop BVH, glTF, USD or clip JSON files here, many at once, or a zip of them; a .gltf
              together with its buffers; CSV of channels for a skeleton of the shelf. Each animation
              in a file is a take; files are kept as they are.
            </p>
            <input
              ref={input}
              type="file"
              multiple
              accept={[...reads, '.bin'].join(',')}
              aria-label="Files to bring in"
              className="sr-only"
              onChange={(e) => {
                bring(e.target.files)
                e.target.value = ''
              }}
            />
            <Button kind="primary" className="h-8 px-3" onClick={() => input.current?.click()}>
              Bring in files
            </Button>
          </div>
          {refused.map((text) => (
            <p
              key={text}
              role="alert"
              className="rounded-[4px] border border-bad bg-raised px-3 py-2 text-bad"
            >
              {text}
            </p>
          ))}
          {binned && bin.data?.some((b) => b.kind === binned.kind && b.id === binned.id) && (
            <p role="status" className="flex items-center gap-3">
              {binned.name} is in the bin
              {binned.kind === 'take' ? ', with its clips.' : ', with its work; its take stays.'}
              <Button kind="primary" onClick={() => putBack.mutate(binned)}>
                Put it back
              </Button>
              <Button onClick={() => setShown('bin')}>Open the bin</Button>
              <Button kind="quiet" aria-label="Dismiss" onClick={() => setBinned(null)}>
                <X size={14} />
              </Button>
            </p>
          )}
          {shown === 'account' && user && <Account name={user} onClose={() => setShown(null)} />}
          {shown === 'bin' && <Bin workspace={id} owns={owns} onClose={() => setShown(null)} />}
          {shown === 'people' && (
            <People
              workspace={id}
              name={workspace?.name ?? ''}
              owns={owns}
              onClose={() => setShown(null)}
            />
          )}
          {jobs.data && jobs.data.length > 0 && (
            <ul className="flex flex-col gap-2" aria-label="What is being made">
              {jobs.data.map((j) => (
                <JobRow
                  key={j.id}
                  job={j}
                  onDone={() => void queries.invalidateQueries({ queryKey: ['jobs'] })}
                />
              ))}
            </ul>
          )}
          {takes.isError && (
            <p role="alert" className="text-bad">
              {takes.error.message} <Button onClick={() => void takes.refetch()}>Try again</Button>
            </p>
          )}
          {takes.isPending && id > 0 && <p className="text-ink-3">Fetching the takes …</p>}
          {takes.data?.length === 0 && (
            <p className="py-16 text-center text-ink-2">
              The shelf is empty. Drop a captured take on it to begin.
            </p>
          )}
          {id === 0 && (
            <p className="py-16 text-center text-ink-2">
              You are not a member of any workspace yet. Whoever runs this server can add you.
            </p>
          )}
          {(takes.data?.length ?? 0) > 1 && (
            <div className="flex items-center justify-end gap-3">
              {picked.size > 0 && changes && (
                <Button kind="primary" onClick={() => setRunning(true)}>
                  Run a recipe on {picked.size}
                </Button>
              )}
              {picked.size > 0 && changes && (
                <Button onClick={() => setRetargeting(true)}>
                  Retarget {picked.size} onto a character
                </Button>
              )}
              {picked.size > 1 && changes && (
                <Tip text="In the order in which they were chosen, each blended into the next">
                  <Button onClick={() => joinChosen.mutate([...picked])}>
                    Join {picked.size} in this order
                  </Button>
                </Tip>
              )}
              {picked.size > 0 && changes && (
                <Button onClick={() => setDelivering(true)}>Deliver {picked.size}</Button>
              )}
              <Button
                onClick={() =>
                  setPicked(new Set(picked.size ? [] : takes.data!.map((take) => take.id)))
                }
              >
                {picked.size ? 'Choose none' : 'Choose all'}
              </Button>
              <label className="flex items-center gap-2 text-ink-2">
                Sort
                <select
                  className="h-6 rounded-[3px] border border-rule-2 bg-paper px-1 text-ink"
                  value={order}
                  onChange={(e) => setOrder(e.target.value as keyof typeof ORDERS)}
                >
                  {Object.entries(ORDERS).map(([name, { text }]) => (
                    <option key={name} value={name}>
                      {text}
                    </option>
                  ))}
                </select>
              </label>
            </div>
          )}
          {joinChosen.error && (
            <p role="alert" className="text-right text-bad">
              {joinChosen.error.message}
            </p>
          )}
          {tables.length > 0 && (
            <TablesOnto
              workspace={id}
              files={tables}
              onChoose={(take) => {
                upload.mutate({ files: tables, onto: String(take) })
                setTables([])
              }}
              onClose={() => setTables([])}
            />
          )}
          {retargeting && (
            <RetargetMany
              workspace={id}
              takes={[...picked]}
              onClose={() => {
                setRetargeting(false)
                void queries.invalidateQueries({ queryKey: ['jobs'] })
              }}
            />
          )}
          {running && (
            <RunRecipe workspace={id} takes={[...picked]} onClose={() => setRunning(false)} />
          )}
          {delivering && (
            <DeliverMany workspace={id} takes={[...picked]} onClose={() => setDelivering(false)} />
          )}
          {trimming && <Trim take={trimming} onDone={moved} onClose={() => setTrimming(null)} />}
          {(batches.data?.length ?? 0) > 0 && <Batches batches={batches.data!} />}
          {(handovers.data?.length ?? 0) > 0 && <Handovers handovers={handovers.data!} />}
          <ul className={CARDS}>
            {byFile(underTheirSources(takes.data?.toSorted(ORDERS[order].by) ?? [])).map((group) =>
              group[0]!.of_its_file > 1 ? (
                <li
                  key={`file ${group[0]!.file}`}
                  className="col-span-full rounded-md border border-rule-2 border-dashed p-3"
                >
                  <p className="mb-2 flex items-baseline gap-2">
                    <span className="truncate font-semibold">{group[0]!.file_name}</span>
                    <span className="num whitespace-nowrap text-ink-2">
                      {counted(group[0]!.of_its_file, 'take')}
                    </span>
                  </p>
                  <ul className={CARDS} aria-label={`Takes in ${group[0]!.file_name}`}>
                    {group.map(card)}
                  </ul>
                </li>
              ) : (
                group.map(card)
              ),
            )}
          </ul>
        </div>
      </main>
    </div>
  )
}
