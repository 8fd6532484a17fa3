/** Who is signed in, and what they chose: theme, keys, pane sizes. Kept by the server. */
import { create } from 'zustand'
import { debounced } from '../api/awaited'
import { answer, client, type Schemas } from '../api/client'

type Preferences = Required<Schemas['PreferencesIO']>

interface SessionState {
  user: string | null | undefined
  workspaces: Schemas['WorkspaceOut'][]
  runsStudio: boolean
  /** Endings of files that can be brought in. */
  reads: string[]
  preferences: Preferences
  trouble: string | null
}

export const useSession = create<SessionState>(() => ({
  user: undefined,
  workspaces: [],
  runsStudio: false,
  reads: [],
  preferences: { theme: null, keys: {}, panes: {} },
  trouble: null,
}))

const { getState: get, setState: set } = useSession

async function entered(session: Schemas['SessionOut']): Promise<void> {
  if (!session.user) {
    set({ user: null, workspaces: [] })
    return
  }
  const kept = await answer(client.GET('/api/preferences'))
  set({
    user: session.user,
    workspaces: session.workspaces,
    runsStudio: session.runs_studio ?? false,
    reads: session.reads ?? [],
    preferences: { theme: kept.theme ?? null, keys: kept.keys ?? {}, panes: kept.panes ?? {} },
    trouble: null,
  })
  showTheme()
}

export async function loadSession(): Promise<void> {
  try {
    await entered(await answer(client.GET('/api/session')))
  } catch (trouble) {
    set({ user: null, trouble: (trouble as Error).message })
  }
}

export async function signIn(username: string, password: string): Promise<void> {
  try {
    await entered(await answer(client.POST('/api/session', { body: { username, password } })))
  } catch (trouble) {
    set({ trouble: (trouble as Error).message })
  }
}

export async function signOut(): Promise<void> {
  await answer(client.DELETE('/api/session'))
  set({ user: null, workspaces: [], trouble: null })
}

/** Whether whoever is signed in changes anything in a workspace, or looks on. */
export const mayChange = (workspace: number): boolean =>
  get().workspaces.find((w) => w.id === workspace)?.role !== 'viewer'

const saving = debounced(
  () => void client.PUT('/api/preferences', { body: get().preferences }),
  400, // ms
)

export function prefer(change: Partial<Preferences>): void {
  set({ preferences: { ...get().preferences, ...change } })
  showTheme()
  saving.soon()
}

export function theme(): 'chart' | 'night' {
  return get().preferences.theme ?? 'chart'
}

function showTheme(): void {
  document.documentElement.dataset.theme = theme()
}
