/** Who is in a workspace and what they may do; for owners also the workspace as a file. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { answer, client, type Schemas } from '../api/client'
import { Button, Dialog, inputLook, Select } from '../ui/controls'
import { Export } from './Export'

export type Role = Schemas['MemberOut']['role']

export const ROLES: Record<Role, string> = {
  owner: 'owner: also says who is in',
  editor: 'editor: works',
  viewer: 'viewer: sees, plays, downloads',
}

export function People({
  workspace,
  name,
  owns,
  onClose,
}: {
  workspace: number
  name: string
  owns: boolean
  onClose: () => void
}) {
  const queries = useQueryClient()
  const [added, setAdded] = useState('')
  const params = { path: { workspace_id: workspace } }
  const people = useQuery({
    queryKey: ['people', workspace],
    queryFn: () => answer(client.GET('/api/workspaces/{workspace_id}/people', { params })),
  })
  const settled = {
    onSettled: () => queries.invalidateQueries({ queryKey: ['people'] }),
  }
  const set = useMutation({
    ...settled,
    mutationFn: (body: Schemas['MemberIn']) =>
      answer(client.PUT('/api/workspaces/{workspace_id}/people', { params, body })),
    onSuccess: () => setAdded(''),
  })
  const takeOut = useMutation({
    ...settled,
    mutationFn: (user_id: number) =>
      answer(
        client.DELETE('/api/workspaces/{workspace_id}/people/{user_id}', {
          params: { path: { workspace_id: workspace, user_id } },
        }),
      ),
  })
  const trouble = set.error ?? takeOut.error
  return (
    <Dialog open wide onClose={onClose} title={`People in ${name}`}>
      <div className="flex flex-col gap-3 overflow-y-auto px-4 py-3">
        {trouble && (
          <p role="alert" className="text-bad">
            {trouble.message}
          </p>
        )}
        <ul className="flex flex-col">
          {people.data?.map((p) => (
            <li key={p.id} className="flex items-center gap-3 border-rule border-b py-1.5">
              <span className="min-w-0 flex-1 truncate font-semibold">{p.name}</span>
              {owns ? (
                <>
                  <Select
                    label={`Role of ${p.name}`}
                    value={p.role}
                    options={ROLES}
                    onChange={(role) => set.mutate({ name: p.name, role })}
                  />
                  <Button aria-label={`Remove ${p.name}`} onClick={() => takeOut.mutate(p.id)}>
                    Remove
                  </Button>
                </>
              ) : (
                <span className="text-ink-2">{ROLES[p.role]}</span>
              )}
            </li>
          ))}
        </ul>
        {owns && (
          <form
            className="flex items-end gap-3"
            onSubmit={(e) => {
              e.preventDefault()
              if (added.trim()) set.mutate({ name: added.trim(), role: 'editor' })
            }}
          >
            <label className="flex flex-1 flex-col gap-1 text-ink-2">
              Add somebody who can sign in here
              <input
                className={inputLook}
                value={added}
                placeholder="their name"
                onChange={(e) => setAdded(e.target.value)}
              />
            </label>
            <Button className="h-7" type="submit">
              Add
            </Button>
          </form>
        )}
        {owns && <Export workspace={workspace} />}
      </div>
    </Dialog>
  )
}
