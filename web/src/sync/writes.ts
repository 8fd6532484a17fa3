/** The changes of one clip that are on their way to the server.
 *
 * What the server *confirmed* (a document, by head) and what is *pending* (changes, by request id)
 * are two things; what is shown is pending folded over confirmed. Changes are sent one after
 * another. An answer lands one, a refusal drops one and says so; while the server cannot be
 * reached all wait and are tried again. No order of answers loses or doubles a change.
 */
import { ApiError } from '../api/client'
import type { Corrected } from '../evaluation/corrections'

/** What is asked of the server. */
export type Request =
  | { do: 'write'; what: Record<string, unknown> }
  | { do: 'undo' | 'redo' }
  | { do: 'jump'; to: number }
  | { do: 'meet'; what: Record<string, unknown> }

/** The server's word of the newest state. */
export interface Head {
  /** The revision. */
  head: { id: number }
  can_undo: boolean
  can_redo: boolean
}

/** Small changes that come one after another, such as nudges of one key, and are one change. */
export interface Gather {
  /** What they are of: those of one name are put together. */
  name: string
  join: (first: Request, next: Request) => Request
}

/** How long a change that others may join waits for the next one, and how long after the last
 * one a further one still belongs to its step of the history; milliseconds. */
const REST = 400
const ONE_STEP = 1000

export interface Entry<D> {
  readonly id: string
  request: Request
  /** What it is, in words, for whoever made it. */
  readonly told: string
  /** What hand work makes of the document that is shown; other work waits for the server. */
  fold: ((shown: D) => D) | null
  /** Parts of the document that it changes, by name. */
  touches: readonly string[]
  /** How joints stand otherwise by it, seen until their poses are here. */
  readonly corrects: Corrected | undefined
  readonly gather: Gather | undefined
  /** The change before it whose step of the history it belongs to. */
  readonly goesOn: string | null
  /** The revision on which it was made, as it was seen, */
  base: number
  /** and the changes before it that this revision had not yet. */
  after: string[]
  /** The head that has it, counted as heads come; null while it is on its way. */
  order: number | null
  /** Whether the server may have heard of it. */
  tried: boolean
}

type Own<D> = Pick<Entry<D>, 'request' | 'told' | 'fold' | 'touches' | 'corrects' | 'gather'>

export interface Sender<D, H extends Head> {
  /** Do it; sent again it must be done once. Rejects with an {@link ApiError}. */
  send: (entry: Entry<D>, head: H) => Promise<H>
  newest: () => Promise<H>
  /** Wait before a server that could not be reached is tried again. */
  pause: (attempt: number) => Promise<void>
}

export interface Listener<D, H extends Head> {
  /** The shown document or the list of changes is another. */
  changed: () => void
  /** There is a new head. */
  moved: (head: H) => void
  /** A change was refused and is not kept. */
  refused: (entry: Entry<D>, trouble: Error) => void
}

/** Parts of the document that arrive by themselves. */
export type Part = 'curves' | 'poses'

/** Not refusals: nobody has decided anything. */
const unreachable = (trouble: unknown): trouble is ApiError =>
  trouble instanceof ApiError && [0, 401, 408, 429, 502, 503, 504].includes(trouble.status)

export class Writes<D, H extends Head> {
  /** Heads that are known, counted. */
  order = 0
  /** Why nothing gets through; null while the server answers. */
  away: string | null = null
  private pending: Entry<D>[] = []
  private landed: Entry<D>[] = []
  private had: Record<Part, number> = { curves: 0, poses: 0 }
  private seen: number
  private folded: D | null = null
  private running = false
  /** Changes that were undone before the server heard of them: redo puts them in line again. */
  private takenBack: Entry<D>[] = []
  private gathered = { name: '', at: 0, id: '' }
  private rest: { timer: ReturnType<typeof setTimeout>; over: () => void } | null = null
  private waiting = new Map<Entry<D>, (done: boolean) => void>()

  constructor(
    public head: H,
    private confirmed: D,
    private readonly sender: Sender<D, H>,
    private readonly listener: Listener<D, H>,
  ) {
    this.seen = head.head.id
  }

  /** How many changes the server has not confirmed. */
  get count(): number {
    return this.pending.length
  }

  /** Whether redo has something to put in line again. */
  get redoes(): boolean {
    return this.takenBack.length > 0
  }

  /** Whether a step in the history is on its way: what it leads to is not known yet. */
  get stepping(): boolean {
    return this.pending.some((e) => e.request.do !== 'write')
  }

  /** The document as it is shown. */
  get shown(): D {
    this.folded ??= this.unseen('curves').reduce(
      (shown, entry) => entry.fold?.(shown) ?? shown,
      this.confirmed,
    )
    return this.folded
  }

  /** Changes that a part which has arrived does not have yet. */
  unseen(part: Part): Entry<D>[] {
    return [...this.landed.filter((e) => e.order! > this.had[part]), ...this.pending]
  }

  /** Put a change in line. Resolves once it is kept (true) or refused (false). */
  add(
    request: Request,
    told: string,
    fold: Entry<D>['fold'] = null,
    touches: readonly string[] = [],
    corrects?: Corrected,
    gather?: Gather,
  ): Promise<boolean> {
    if (request.do === 'undo' && this.takeBack()) return Promise.resolve(true)
    if (request.do === 'redo' && this.takenBack.length) {
      const entry = this.takenBack.pop()!
      return this.queue(entry, this.seen)
    }
    this.takenBack = []
    const own = { request, told, fold, touches, corrects, gather }
    return this.joined(own) ?? this.queue(own, this.seen)
  }

  /** Put a refused change in line again, over what stands now. */
  again(entry: Entry<D>): Promise<boolean> {
    return this.queue(entry, this.head.head.id)
  }

  /** Undo the last change while the server has not heard of it: it never will. */
  private takeBack(): boolean {
    const last = this.pending.at(-1)
    if (!last || last.tried || last.request.do !== 'write') return false
    this.pending.pop()
    this.takenBack.push(last)
    this.gathered.name = ''
    this.folded = null
    this.settle(last, false)
    this.rest?.over()
    this.listener.changed()
    return true
  }

  /** Put together with the last one in line, which waits for such. */
  private joined(own: Own<D>): Promise<boolean> | null {
    const last = this.pending.at(-1)
    const { gather, fold } = own
    if (!gather || !last || last.tried || last.gather?.name !== gather.name) return null
    last.request = gather.join(last.request, own.request)
    const before = last.fold
    last.fold = before && fold ? (shown) => fold(before(shown)) : (fold ?? before)
    last.touches = [...new Set([...last.touches, ...own.touches])]
    if (fold && this.folded) this.folded = fold(this.folded)
    this.gathered.at = Date.now()
    if (this.rest) {
      clearTimeout(this.rest.timer)
      this.rest.timer = setTimeout(this.rest.over, REST)
    }
    this.listener.changed()
    return this.settled(last)
  }

  private queue(own: Own<D>, base: number): Promise<boolean> {
    const after = this.unseen('curves').map((e) => e.id)
    const { request, told, fold, touches, corrects, gather } = own
    const now = Date.now()
    const soon = this.gathered.name === gather?.name && now - this.gathered.at < ONE_STEP
    const goesOn = gather && soon ? this.gathered.id : null
    const id = crypto.randomUUID()
    this.gathered = { name: gather?.name ?? '', at: now, id }
    const entry: Entry<D> = {
      id,
      ...{ request, told, fold, touches, corrects, gather, goesOn, base, after },
      order: null,
      tried: false,
    }
    if (fold && this.folded) this.folded = fold(this.folded)
    this.pending.push(entry)
    this.listener.changed()
    this.rest?.over()
    void this.run()
    return this.settled(entry)
  }

  /** Until a change is kept or refused. */
  private settled(entry: Entry<D>): Promise<boolean> {
    const before = this.waiting.get(entry)
    return new Promise((resolve) =>
      this.waiting.set(entry, (done) => {
        before?.(done)
        resolve(done)
      }),
    )
  }

  /** The document's curves as of the head of an order have arrived. */
  confirm(document: D, order: number, revision: number): void {
    if (order < this.had.curves) return
    this.confirmed = document
    this.folded = null
    this.seen = revision
    this.arrived('curves', order)
  }

  /** A part as of the head of an order has arrived. */
  arrived(part: Part, order: number): void {
    if (order < this.had[part]) return
    this.had[part] = order
    const least = Math.min(this.had.curves, this.had.poses)
    this.landed = this.landed.filter((e) => e.order! > least)
    this.listener.changed()
  }

  /** Somebody else's word of the newest state: as of a page that is opened again. */
  adopt(head: H): void {
    this.head = head
    this.order++
    this.listener.moved(head)
  }

  private async run(): Promise<void> {
    if (this.running) return
    this.running = true
    while (this.pending.length) {
      const entry = this.pending[0]!
      if (entry.gather && this.pending.length === 1) await this.gathering()
      if (this.pending[0] === entry) await this.next(entry)
    }
    this.running = false
  }

  /** While the only change in line may still be joined by others. */
  private async gathering(): Promise<void> {
    await new Promise<void>((over) => {
      this.rest = { timer: setTimeout(over, REST), over }
    })
    clearTimeout(this.rest!.timer)
    this.rest = null
  }

  private async next(entry: Entry<D>): Promise<void> {
    const { request } = entry
    entry.tried = true
    const nothing =
      (request.do === 'undo' && !this.head.can_undo) ||
      (request.do === 'redo' && !this.head.can_redo) ||
      (request.do === 'jump' && request.to === this.head.head.id)
    if (nothing) {
      this.drop(entry)
      return
    }
    try {
      this.land(entry, await this.sent(entry))
    } catch (trouble) {
      await this.refuse(entry, trouble as Error)
    }
  }

  private drop(entry: Entry<D>): void {
    this.pending.shift()
    this.folded = null
    this.settle(entry, false)
    this.listener.changed()
  }

  /** Send until there is an answer, a yes or a no. */
  private async sent(entry: Entry<D>): Promise<H> {
    for (let attempt = 0; ; attempt++) {
      try {
        const answer = await this.sender.send(entry, this.head)
        this.reached()
        return answer
      } catch (trouble) {
        if (!unreachable(trouble)) {
          this.reached()
          throw trouble
        }
        await this.wait(attempt, trouble.message)
        const moved = entry.request.do === 'write' ? null : await this.movedMeanwhile()
        if (moved) return moved
      }
    }
  }

  /** A step in the history carries no name by which it could be known again: it was taken if the
   * head is another. */
  private async movedMeanwhile(): Promise<H | null> {
    try {
      const newest = await this.sender.newest()
      this.reached()
      return newest.head.id === this.head.head.id ? null : newest
    } catch (trouble) {
      if (!unreachable(trouble)) throw trouble
      return null
    }
  }

  private reached(): void {
    if (this.away === null) return
    this.away = null
    this.listener.changed()
  }

  private async wait(attempt: number, why: string): Promise<void> {
    if (this.away !== why) {
      this.away = why
      this.listener.changed()
    }
    await this.sender.pause(attempt)
  }

  private land(entry: Entry<D>, head: H): void {
    this.pending.shift()
    entry.order = ++this.order
    this.landed.push(entry)
    this.head = head
    // What follows a step in the history follows the state that it led to.
    if (entry.request.do !== 'write')
      for (const later of this.pending) {
        const at = later.after.indexOf(entry.id)
        if (at < 0) continue
        later.base = head.head.id
        later.after = later.after.slice(at + 1)
      }
    this.listener.moved(head)
    this.listener.changed()
    this.settle(entry, true)
  }

  private async refuse(entry: Entry<D>, trouble: Error): Promise<void> {
    // What stood in the way is to be seen; a change that is still in line was made before it.
    const conflict = trouble instanceof ApiError && trouble.status === 409
    let newest: H | null = null
    for (let attempt = 0; conflict && !newest; attempt++)
      try {
        newest = await this.sender.newest()
        this.reached()
      } catch (problem) {
        if (!unreachable(problem)) break
        await this.wait(attempt, problem.message)
      }
    this.pending.shift()
    this.folded = null
    if (newest && newest.head.id !== this.head.head.id) this.adopt(newest)
    this.listener.changed()
    this.listener.refused(entry, trouble)
    this.settle(entry, false)
  }

  private settle(entry: Entry<D>, done: boolean): void {
    this.waiting.get(entry)?.(done)
    this.waiting.delete(entry)
  }
}
