/** Changes of the open clip: each is shown at once where hand work made it, stands in line, and is
 * sent on its own. A clip's line is its own, and lives until it is empty. */
import { ApiError, answer, client, type Schemas, textOf } from '../api/client'
import type { Corrected } from '../evaluation/corrections'
import type { Clip, Scope } from '../evaluation/model'
import { mayChange } from '../session/session'
import { notify, useBench } from '../view/bench'
import { draft } from '../view/draft'
import { goOn } from '../view/goingOn'
import { clearKeys } from '../view/selection'
import { transport } from '../view/transport'
import { lookAnew } from '../view/viewing'
import { loadCatalogue, titleOf } from './catalogue'
import { bringAll, type Curves, catchUp, follow, forgetPoses, showCurves } from './confirmed'
import { cancelPreview } from './previews'
import { retargetAnew } from './retargeting'
import { type Entry, type Gather, type Request, type Sender, Writes } from './writes'

const { getState: get, setState: set } = useBench

type Line = Writes<Curves, Clip>
type Write = Omit<Schemas['WriteIn'], 'revision' | 'request_id' | 'after' | 'goes_on'>
type Meet = Omit<Schemas['MeetIn'], 'revision' | 'request_id'>

/** The lines of clips that are open or whose changes are still on their way. */
const lines = new Map<number, Line>()

const MOST_PAUSE = 5000 // ms

/** A little longer each time; at once when the network is back. */
function pause(attempt: number): Promise<void> {
  return new Promise((done) => {
    const go = () => {
      clearTimeout(timer)
      removeEventListener('online', go)
      done()
    }
    const timer = setTimeout(go, Math.min(400 * 2 ** attempt, MOST_PAUSE))
    addEventListener('online', go)
  })
}

function send(id: number, entry: Entry<Curves>, head: Clip): Promise<Clip> {
  const params = { path: { clip_id: id } }
  const { request } = entry
  if (request.do === 'write')
    return answer(
      client.POST('/api/clips/{clip_id}/writes', {
        params,
        body: {
          ...(request.what as Write),
          revision: entry.base,
          request_id: entry.id,
          after: entry.after,
          goes_on: entry.goesOn,
        },
      }),
    )
  const revision = head.head.id
  if (request.do === 'jump')
    return answer(
      client.POST('/api/clips/{clip_id}/jump', { params, body: { revision, to: request.to } }),
    )
  if (request.do === 'meet') {
    const body = { ...(request.what as Meet), revision, request_id: entry.id }
    return answer(client.POST('/api/clips/{clip_id}/partners/meet', { params, body }))
  }
  const path = `/api/clips/{clip_id}/${request.do}` as const
  return answer(client.POST(path, { params, body: { revision } }))
}

/** The line of a clip: a new one, or the one whose changes are still on their way. */
function lineOf(clip: Clip): Line {
  const old = lines.get(clip.id)
  if (old) {
    old.adopt(clip)
    return old
  }
  const sender: Sender<Curves, Clip> = {
    send: (entry, head) => send(clip.id, entry, head),
    newest: () =>
      answer(client.GET('/api/clips/{clip_id}', { params: { path: { clip_id: clip.id } } })),
    pause,
  }
  const mine = () => get().clip?.id === clip.id
  const line: Line = new Writes<Curves, Clip>(clip, new Map(), sender, {
    changed: () => {
      if (mine()) show(line)
      else if (!line.count) lines.delete(clip.id)
    },
    moved: (head) => {
      if (mine()) headMoved(head)
    },
    refused: (entry, trouble) => refused(clip, line, entry, trouble),
  })
  lines.set(clip.id, line)
  return line
}

function show(line: Line): void {
  const { count: pending, away, redoes } = line
  const now = get()
  if (now.pending !== pending || now.away !== away || now.redoes !== redoes)
    set({ pending, away, redoes, saving: pending > 0 && away === null })
  showCurves()
  catchUp()
}

function refused(clip: Clip, line: Line, entry: Entry<Curves>, trouble: Error): void {
  const here = get().clip?.id === clip.id
  const where = here ? '' : ` of ${clip.name}`
  const conflict = trouble instanceof ApiError && trouble.status === 409
  if (conflict && here && entry.request.do === 'write') {
    const before = get().refusal
    const both = (side: 'theirs' | 'yours') => [
      ...new Set([...(before?.[side] ?? []), ...((trouble.body[side] as string[]) ?? [])]),
    ]
    const changes = (trouble.body.changes as Schemas['ChangeOut'][]) ?? []
    const again = () => {
      before?.again()
      void line.again(entry)
    }
    const count = (before?.count ?? 0) + 1
    set({
      refusal: {
        told: entry.told,
        count,
        theirs: both('theirs'),
        yours: both('yours'),
        changes: before?.changes.length ? before.changes : changes,
        again,
      },
    })
    return
  }
  notify(`${entry.told}${where} was not kept: ${trouble.message}`)
}

/** Everything the server said of a new head takes the place of what stood. */
function headMoved(clip: Clip): void {
  const before = get().clip
  const rate = clip.rate[0]! / clip.rate[1]!
  if (before && (before.frames !== clip.frames || transport.rate !== rate)) {
    transport.follow(clip.frames, rate)
    forgetPoses()
  }
  const reread = JSON.stringify(before?.reading) !== JSON.stringify(clip.reading)
  cancelPreview()
  set({ clip })
  void bringAll(reread)
}

/** Somebody else's head takes the place of what stands, as one's own would. */
export function takeUp(newest: Clip): void {
  const line = lines.get(newest.id)
  if (line && !line.count && line.head.head.id !== newest.head.id) line.adopt(newest)
}

let opening = 0

/** Open a clip: document, poses, the root's curves; views are fitted by those who draw. */
export async function openClip(id: number): Promise<void> {
  const turn = ++opening
  cancelPreview()
  lookAnew()
  retargetAnew()
  clearKeys()
  draft.drop()
  follow(null)
  set({ ...useBench.getInitialState(), step: get().step })
  try {
    const clip = await answer(
      client.GET('/api/clips/{clip_id}', { params: { path: { clip_id: id } } }),
    )
    // Another one was opened meanwhile.
    if (turn !== opening) return
    transport.frame = 0
    transport.fit(clip.frames, clip.rate[0]! / clip.rate[1]!)
    goOn(clip)
    const line = lineOf(clip)
    follow(line)
    show(line)
    await Promise.all([bringAll(true), loadCatalogue()])
  } catch (trouble) {
    if (turn === opening) set({ trouble: textOf(trouble) })
  }
}

function change(request: Request, told: string, hand?: Hand): Promise<boolean> {
  const { clip } = get()
  const line = clip && lines.get(clip.id)
  if (!line) return Promise.resolve(false)
  if (!mayChange(clip.workspace)) {
    notify(`${told} was not made: you are a viewer in this workspace.`)
    return Promise.resolve(false)
  }
  if (hand?.fold && line.away && line.stepping) {
    notify(`${told} was not made: a step in the history waits for the server.`)
    return Promise.resolve(false)
  }
  const { fold = null, touches, corrects, gather } = hand ?? {}
  return line.add(request, told, fold, touches, corrects, gather)
}

/** What hand work makes of the shown curves, and which of them it changes. */
export interface Hand {
  fold?: (shown: Curves) => Curves
  touches?: readonly string[]
  /** How joints stand otherwise by it, until their poses are here. */
  corrects?: Corrected
  /** Where such changes in a row are one. */
  gather?: Gather
}

/** Change the recipe. Sent again after a lost answer, it is applied once. */
export const write = (what: Write, told = 'The change', hand?: Hand): Promise<boolean> =>
  change({ do: 'write', what }, told, hand)

export const apply = (
  operation: string,
  params: Record<string, unknown>,
  scope: Scope = {},
  told?: string,
  hand?: Hand,
  inputs?: Record<string, string | string[]> | null,
): Promise<boolean> =>
  write(
    { append: { operation, params, scope, ...(inputs ? { inputs } : {}) } },
    told ?? titleOf(operation),
    hand,
  )

/** Hold hands of two figures half way between them, in the partner's clip as well. */
export const meet = (what: Meet): Promise<boolean> =>
  change({ do: 'meet', what }, 'The meeting half way')

export const undo = (): Promise<boolean> => change({ do: 'undo' }, 'Undo')
export const redo = (): Promise<boolean> => change({ do: 'redo' }, 'Redo')
/** Make any revision the head: the history is a list to be jumped in. */
export const jump = (to: number): Promise<boolean> =>
  change({ do: 'jump', to }, 'The step in the history')

addEventListener('beforeunload', (event) => {
  if ([...lines.values()].some((line) => line.count)) event.preventDefault()
})
