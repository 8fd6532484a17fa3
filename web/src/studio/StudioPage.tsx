/** The page of whoever runs the studio: what runs, who is in it, what it holds, what failed. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { type ReactNode, useRef, useState } from 'react'
import { answer, client, type Schemas, sendFiles } from '../api/client'
import { ROLES, type Role } from '../shelf/People'
import { Button, inputLook, Select } from '../ui/controls'
import { bytes, counted, day, grouped, moment } from '../ui/numbers'
import { SubPage } from '../ui/SubPage'

type Studio = Schemas['OverviewOut']

const GB = 1e9
const TABLE =
  'w-full border-collapse rounded-md border border-rule-2 bg-raised [&_td]:px-3 [&_td]:py-1.5 [&_th]:px-3 [&_th]:py-1.5 [&_th]:text-left [&_th]:font-normal [&_th]:text-ink-2 [&_tr]:border-rule [&_tr]:border-b'

function Part({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section className="flex flex-col gap-2">
      <h2 className="font-semibold text-[15px]">{title}</h2>
      {children}
    </section>
  )
}

/** Asks the server for something and shows the studio as it then is. */
function useChange() {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: (ask: () => Promise<unknown>) => ask(),
    onSettled: () => queries.invalidateQueries({ queryKey: ['studio'] }),
  })
}

type Change = ReturnType<typeof useChange>

function Workspaces({ studio, change }: { studio: Studio; change: Change }) {
  const [name, setName] = useState('')
  const input = useRef<HTMLInputElement>(null)
  const room = (id: number, gb: string) =>
    change.mutate(() =>
      answer(
        client.PATCH('/api/studio/workspaces/{workspace_id}', {
          params: { path: { workspace_id: id } },
          body: { most_bytes: gb.trim() ? Math.round(Number(gb) * GB) : null },
        }),
      ),
    )
  const bringIn = (file: File) =>
    change.mutate(() => sendFiles('/api/studio/workspaces/files', 'file', [file]))
  return (
    <Part title="Workspaces">
      <table className={TABLE}>
        <thead>
          <tr>
            <th>name</th>
            <th>people</th>
            <th>takes</th>
            <th>holds</th>
            <th>of that in the bin</th>
            <th>may hold</th>
          </tr>
        </thead>
        <tbody>
          {studio.workspaces.map((w) => (
            <tr key={w.id}>
              <td className="font-semibold">{w.name}</td>
              <td className="num">{w.people}</td>
              <td className="num">
                {grouped(w.usage.takes)} of {grouped(w.usage.most_takes)}
              </td>
              <td className={`num ${w.usage.nearly_full ? 'text-warn' : ''}`}>
                {bytes(w.usage.bytes)}
                {w.usage.nearly_full && ', nearly full'}
              </td>
              <td className="num">{bytes(w.binned_bytes)}</td>
              <td>
                <label className="flex items-center gap-1.5">
                  <input
                    key={w.usage.most_bytes}
                    aria-label={`Room of ${w.name}, GB`}
                    className={`${inputLook} num h-6 w-20 text-right`}
                    inputMode="decimal"
                    defaultValue={Number((w.usage.most_bytes / GB).toFixed(3))}
                    onKeyDown={(e) => e.key === 'Enter' && e.currentTarget.blur()}
                    onBlur={(e) =>
                      Number(e.target.value) !== Number((w.usage.most_bytes / GB).toFixed(3)) &&
                      room(w.id, e.target.value)
                    }
                  />
                  GB
                </label>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {studio.coming_in.map((job) => (
        <p key={job.id} className="flex items-center gap-3">
          <span
            className={`min-w-0 flex-1 ${job.state === 'failed' ? 'text-bad' : 'text-ink-2'}`}
            role={job.state === 'failed' ? 'alert' : undefined}
          >
            {job.state === 'failed'
              ? job.message
              : job.state === 'done'
                ? `${job.title} is the workspace ${String(job.result.name)} now.`
                : `${job.title} is coming in: ${Math.round(100 * job.progress)} %`}
          </span>
          <Button
            aria-label={`${job.state === 'running' ? 'Cancel' : 'Dismiss'}: ${job.title}`}
            onClick={() =>
              change.mutate(() =>
                answer(
                  client.DELETE('/api/studio/jobs/{job_id}', {
                    params: { path: { job_id: job.id } },
                  }),
                ),
              )
            }
          >
            {job.state === 'running' ? 'Cancel' : 'Dismiss'}
          </Button>
        </p>
      ))}
      <form
        className="flex items-center gap-3"
        onSubmit={(e) => {
          e.preventDefault()
          change.mutate(async () => {
            await answer(client.POST('/api/studio/workspaces', { body: { name } }))
            setName('')
          })
        }}
      >
        <input
          aria-label="Name of a new workspace"
          placeholder="a new workspace's name"
          className={`${inputLook} w-64`}
          value={name}
          onChange={(e) => setName(e.target.value)}
        />
        <Button className="h-7" type="submit" disabled={!name.trim()}>
          Make it
        </Button>
        <span className="flex-1" />
        <input
          ref={input}
          type="file"
          accept=".zip"
          aria-label="A workspace's file"
          className="sr-only"
          onChange={(e) => {
            const file = e.target.files?.[0]
            if (file) bringIn(file)
            e.target.value = ''
          }}
        />
        <Button className="h-7" onClick={() => input.current?.click()}>
          Bring in a workspace's file
        </Button>
      </form>
    </Part>
  )
}

function Person({ person, change }: { person: Studio['people'][number]; change: Change }) {
  const [password, setPassword] = useState<string | null>(null)
  const params = { path: { user_id: person.id } }
  return (
    <tr>
      <td className={person.can_sign_in ? 'font-semibold' : 'text-ink-3 line-through'}>
        {person.name}
      </td>
      <td className="text-ink-2">
        {person.workspaces.map((w) => `${w.name} (${w.role})`).join(', ') || 'in none'}
        {person.runs_studio && ' · runs the studio'}
      </td>
      <td className="num text-ink-2">{person.last_seen ? day(person.last_seen) : 'never'}</td>
      <td>
        {password === null ? (
          <span className="flex justify-end gap-2">
            <Button aria-label={`New password for ${person.name}`} onClick={() => setPassword('')}>
              New password
            </Button>
            <Button
              aria-label={`${person.can_sign_in ? 'Shut out' : 'Let in'}: ${person.name}`}
              onClick={() =>
                change.mutate(() =>
                  person.can_sign_in
                    ? answer(client.DELETE('/api/studio/people/{user_id}', { params }))
                    : answer(client.POST('/api/studio/people/{user_id}/let-in', { params })),
                )
              }
            >
              {person.can_sign_in ? 'Shut out' : 'Let in'}
            </Button>
          </span>
        ) : (
          <form
            className="flex justify-end gap-2"
            onSubmit={(e) => {
              e.preventDefault()
              change.mutate(async () => {
                const body = { password }
                await answer(client.POST('/api/studio/people/{user_id}/password', { params, body }))
                setPassword(null)
              })
            }}
          >
            <input
              type="password"
              autoComplete="new-password"
              aria-label={`Password for ${person.name}`}
              className={`${inputLook} h-6`}
              value={password}
              onChange={(e) => setPassword(e.target.value)}
            />
            <Button type="submit">Set</Button>
            <Button onClick={() => setPassword(null)}>Leave it</Button>
          </form>
        )}
      </td>
    </tr>
  )
}

function People({ studio, change }: { studio: Studio; change: Change }) {
  const [name, setName] = useState('')
  const [password, setPassword] = useState('')
  const [workspace, setWorkspace] = useState('')
  const [role, setRole] = useState<Role>('editor')
  const places = Object.fromEntries(studio.workspaces.map((w) => [String(w.id), w.name]))
  return (
    <Part title="People">
      <table className={TABLE}>
        <thead>
          <tr>
            <th>name</th>
            <th>workspaces</th>
            <th>last signed in</th>
            <th>
              <span className="sr-only">what can be done</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {studio.people.map((p) => (
            <Person key={p.id} person={p} change={change} />
          ))}
        </tbody>
      </table>
      <form
        className="flex flex-wrap items-center gap-3"
        onSubmit={(e) => {
          e.preventDefault()
          change.mutate(async () => {
            const into = workspace ? Number(workspace) : null
            await answer(
              client.POST('/api/studio/people', {
                body: { name, password, workspace: into, role, runs_studio: false },
              }),
            )
            setName('')
            setPassword('')
          })
        }}
      >
        <input
          aria-label="Name of somebody new"
          placeholder="somebody's name"
          autoComplete="off"
          className={`${inputLook} w-44`}
          value={name}
          onChange={(e) => setName(e.target.value)}
        />
        <input
          type="password"
          autoComplete="new-password"
          aria-label="Their password"
          placeholder="password, 8 or more"
          className={`${inputLook} w-44`}
          value={password}
          onChange={(e) => setPassword(e.target.value)}
        />
        <Select
          label="Their workspace"
          value={workspace}
          options={{ '': 'no workspace yet', ...places }}
          onChange={setWorkspace}
          className="h-7"
        />
        <Select
          label="Their role"
          value={role}
          options={ROLES}
          onChange={setRole}
          className="h-7"
          disabled={!workspace}
        />
        <Button className="h-7" type="submit" disabled={!name.trim() || !password}>
          Add
        </Button>
      </form>
    </Part>
  )
}

function Work({ studio }: { studio: Studio }) {
  const states = ['done', 'failed', 'cancelled', 'running', 'queued']
  const kinds = [...new Set(studio.jobs.map((j) => j.kind))]
  const count = (kind: string, state: string) =>
    studio.jobs.find((j) => j.kind === kind && j.state === state)?.count ?? 0
  return (
    <>
      <Part title="Work of the last day">
        <table className={TABLE}>
          <thead>
            <tr>
              <th>job</th>
              {states.map((s) => (
                <th key={s}>{s === 'queued' ? 'waiting' : s}</th>
              ))}
            </tr>
          </thead>
          <tbody>
            {kinds.length === 0 && (
              <tr>
                <td colSpan={6} className="text-ink-2">
                  None.
                </td>
              </tr>
            )}
            {kinds.map((kind) => (
              <tr key={kind}>
                <td>{kind}</td>
                {states.map((s) => (
                  <td
                    key={s}
                    className={`num ${s === 'failed' && count(kind, s) ? 'text-bad' : ''}`}
                  >
                    {count(kind, s)}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </Part>
      <Part title="What failed">
        {studio.failures.length === 0 && <p className="text-ink-2">Nothing.</p>}
        <ul className="flex flex-col">
          {studio.failures.map((f) => (
            <li key={`${f.when} ${f.title}`} className="border-rule border-b py-1.5">
              <span className="num text-ink-2">{moment(f.when)}</span> {f.kind}, {f.title}
              {f.workspace && <span className="text-ink-2"> in {f.workspace}</span>}
              <span className="block text-bad">{f.message}</span>
            </li>
          ))}
        </ul>
      </Part>
    </>
  )
}

export function StudioPage() {
  const change = useChange()
  const studio = useQuery({
    queryKey: ['studio'],
    queryFn: () => answer(client.GET('/api/studio')),
    refetchInterval: (query) =>
      query.state.data?.coming_in.some((j) => j.state === 'queued' || j.state === 'running')
        ? 800
        : 15_000,
  })
  const data = studio.data
  return (
    <SubPage title="The studio" className="gap-6">
      {(studio.error ?? change.error) && (
        <p role="alert" className="text-bad">
          {(change.error ?? studio.error)?.message}
        </p>
      )}
      {data && (
        <>
          <p className="num text-ink-2">
            {data.workers === 0 ? (
              <b className="text-bad">No worker runs: nothing is brought in or delivered.</b>
            ) : (
              `${counted(data.workers, 'worker')} at work`
            )}
            {' · '}
            {counted(data.waiting, 'job')} waiting · database {bytes(data.database_bytes)} ·{' '}
            {Object.entries(data.versions)
              .map(([name, version]) => `${name} ${version}`)
              .join(' · ')}
          </p>
          <Workspaces studio={data} change={change} />
          <People studio={data} change={change} />
          <Work studio={data} />
        </>
      )}
    </SubPage>
  )
}
