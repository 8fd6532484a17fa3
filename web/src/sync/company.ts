/** Who else is on the open clip: seen in the header, and what they change is followed. */
import { answer, client, type Schemas } from '../api/client'
import { useSession } from '../session/session'
import { notify, useBench } from '../view/bench'
import { draft } from '../view/draft'
import { takeUp } from './write'

type Change = Schemas['ChangeOut']

const EVERY = 3000 // ms
/** A page that nobody looks at asks less often. */
const HIDDEN_EVERY = 12_000

const page = crypto.randomUUID()

/** Steps of others in a few words: whose and what. */
export function toldOf(changes: readonly Change[], me: string | null | undefined): string {
  const last = changes.at(-1)
  if (!last) return 'The clip was taken back to another revision.'
  const names = [...new Set(changes.map((c) => (c.author === me ? 'you, elsewhere' : c.author)))]
  const whose = names.join(' and ') || 'somebody'
  const what = changes.length > 1 ? `${changes.length} changes, the last ${last.cause}` : last.cause
  return `${whose[0]!.toUpperCase()}${whose.slice(1)}: ${what} (revision ${last.number})`
}

/** Whether a new head can take the place of what is shown without disturbing whoever works. */
function atRest(): boolean {
  const { pending, previewing, preview, refusal } = useBench.getState()
  return pending === 0 && !previewing && !preview && !refusal && draft.curves.size === 0
}

async function look(id: number): Promise<void> {
  const revision = useBench.getState().clip?.head.id
  if (revision === undefined) return
  const params = { path: { clip_id: id } }
  const out = await answer(
    client.POST('/api/clips/{clip_id}/here', { params, body: { page, revision } }),
  )
  const { clip, others } = useBench.getState()
  if (clip?.id !== id) return
  if (others.join() !== out.others.join()) useBench.setState({ others: out.others })
  // What was done here meanwhile brought its own new head.
  if (out.head === revision || clip.head.id !== revision || !atRest()) return
  const newest = await answer(client.GET('/api/clips/{clip_id}', { params }))
  if (useBench.getState().clip?.head.id !== revision || !atRest()) return
  takeUp(newest)
  notify(toldOf(out.changes, useSession.getState().user))
}

/** Look after the clip's company until what is returned is called. */
export function keepCompany(id: number): () => void {
  let timer: ReturnType<typeof setTimeout> | undefined
  let ended = false
  const again = () => {
    timer = setTimeout(
      () => {
        // Nobody is told that the company cannot be asked for: what is changed says it.
        void look(id)
          .catch(() => undefined)
          .finally(() => !ended && again())
      },
      document.hidden ? HIDDEN_EVERY : EVERY,
    )
  }
  again()
  return () => {
    ended = true
    clearTimeout(timer)
    useBench.setState({ others: [] })
  }
}
