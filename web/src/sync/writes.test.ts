import { describe, expect, it, vi } from 'vitest'
import { ApiError } from '../api/client'
import { type Entry, type Head, type Request, Writes } from './writes'

/** A document of numbers by name; an edit sets one, as hand work does. */
type Doc = ReadonlyMap<string, number>
const set = (key: string, value: number) => (doc: Doc) => new Map([...doc, [key, value]])

interface Mine extends Head {
  doc: Doc
}

function random(seed: number): () => number {
  let s = seed
  return () => {
    s = (s * 1103515245 + 12345) & 0x7fffffff
    return s / 0x7fffffff
  }
}

type Mood = 'ok' | 'away' | 'lost' | 'refuse' | 'conflict'

/** A server with a history: slow or fast, refusing, away, or answering so late that it is lost. */
class Server {
  revisions: { id: number; parent: number | null; doc: Doc; request: string | null }[] = [
    { id: 1, parent: null, doc: new Map(), request: null },
  ]
  head = 1
  applied: string[] = []
  moods: Mood[] = []

  constructor(private next: () => number) {}

  get state(): Mine {
    const at = this.revisions.find((r) => r.id === this.head)!
    return {
      head: { id: at.id },
      can_undo: at.parent !== null,
      can_redo: false,
      doc: at.doc,
    }
  }

  async late(): Promise<void> {
    const turns = Math.floor(this.next() * 6)
    for (let k = 0; k < turns; k++) await Promise.resolve()
    if (this.next() < 0.3) await new Promise((done) => setTimeout(done, 0))
  }

  add(doc: Doc, request: string | null): void {
    const id = this.revisions.length + 1
    this.revisions.push({ id, parent: this.head, doc, request })
    this.head = id
  }

  send = async (entry: Entry<Doc>): Promise<Mine> => {
    await this.late()
    const mood = this.moods.shift() ?? 'ok'
    if (mood === 'away') throw new ApiError(0, 'away')
    // What is done already is done: sent again it is neither refused nor done anew.
    const done = this.revisions.some((r) => r.request === entry.id)
    if (mood === 'refuse' && !done) throw new ApiError(422, 'no')
    if (mood === 'conflict' && !done) throw new ApiError(409, 'theirs', { theirs: ['x'] })
    const { request } = entry
    if (request.do === 'undo') {
      this.head = this.revisions.find((r) => r.id === this.head)!.parent!
      this.applied.push(entry.id)
    } else if (request.do === 'write' && !done) {
      const { key, value } = request.what as { key: string; value: number }
      this.add(set(key, value)(this.state.doc), entry.id)
      this.applied.push(entry.id)
    }
    const answer = this.state
    await this.late()
    if (mood === 'lost') throw new ApiError(0, 'lost')
    return answer
  }

  newest = async (): Promise<Mine> => {
    await this.late()
    return this.state
  }
}

function open(server: Server) {
  const refused: string[] = []
  const heads: { order: number; head: Mine }[] = []
  const writes: Writes<Doc, Mine> = new Writes<Doc, Mine>(
    server.state,
    server.state.doc,
    { send: server.send, newest: server.newest, pause: () => Promise.resolve() },
    {
      changed: () => {},
      moved: (head) => heads.push({ order: writes.order, head }),
      refused: (entry) => refused.push(entry.id),
    },
  )
  return { writes, refused, heads }
}

const MOODS: Mood[] = ['ok', 'ok', 'ok', 'ok', 'away', 'lost', 'refuse', 'conflict']

describe('changes on their way', () => {
  for (let seed = 1; seed <= 150; seed++)
    it(`none is lost and none done twice, whatever comes back when (${seed})`, async () => {
      const next = random(seed)
      const server = new Server(next)
      const { writes, refused, heads } = open(server)
      const done: Promise<boolean>[] = []
      const made: { key: string; value: number }[] = []
      const last = new Map<string, number>()
      for (let k = 0; k < 25; k++) {
        server.moods.push(MOODS[Math.floor(next() * MOODS.length)]!)
        const what = { key: 'abc'[Math.floor(next() * 3)]!, value: k }
        done.push(writes.add({ do: 'write', what }, `edit ${k}`, set(what.key, what.value)))
        made.push(what)
        last.set(what.key, what.value)
        // What was just made is what is seen, at once, whatever has been confirmed so far.
        expect(writes.shown.get(what.key)).toBe(k)
        await server.late()
        // Curves of some head arrive, late or early, in any order.
        if (heads.length && next() < 0.6) {
          const { order, head } = heads[Math.floor(next() * heads.length)]!
          writes.confirm(head.doc, order, head.head.id)
          if (next() < 0.5) writes.arrived('poses', order)
        }
      }
      const kept = await Promise.all(done)
      const ids = server.applied
      expect(new Set(ids).size).toBe(ids.length)
      expect(kept.filter(Boolean).length).toBe(ids.length)
      expect(refused.length).toBe(kept.length - ids.length)
      expect(writes.count).toBe(0)
      // What is shown is the server's, once it has been fetched, and was so before.
      const wanted = new Map<string, number>()
      made.forEach(({ key, value }, k) => {
        if (kept[k]) wanted.set(key, value)
      })
      expect(new Map(writes.shown)).toEqual(wanted)
      writes.confirm(server.state.doc, writes.order, server.head)
      expect(new Map(writes.shown)).toEqual(wanted)
      expect(new Map(server.state.doc)).toEqual(wanted)
      // Sent in the order in which they were made.
      const values = server.revisions.slice(1).map((r) => Math.max(...r.doc.values()))
      expect(values).toEqual([...values].sort((a, b) => a - b))
    })

  it('wait while the server is away, and say so', async () => {
    const server = new Server(random(5))
    server.moods = ['away', 'away', 'away', 'lost', 'ok']
    const { writes } = open(server)
    const away: (string | null)[] = []
    const one = writes.add({ do: 'write', what: { key: 'a', value: 1 } }, 'one', set('a', 1))
    const two = writes.add({ do: 'write', what: { key: 'a', value: 2 } }, 'two', set('a', 2))
    const timer = setInterval(() => away.push(writes.away), 0)
    expect(await Promise.all([one, two])).toEqual([true, true])
    clearInterval(timer)
    expect(writes.away).toBeNull()
    expect(server.state.doc.get('a')).toBe(2)
    expect(server.revisions.length).toBe(3)
  })

  it('a step in the history is taken once, though its answer was lost', async () => {
    const server = new Server(random(9))
    for (const value of [1, 2, 3]) server.add(new Map([['a', value]]), null)
    server.moods = ['lost', 'ok']
    const { writes } = open(server)
    expect(await writes.add({ do: 'undo' }, 'undo')).toBe(true)
    expect(server.state.doc.get('a')).toBe(2)
    expect(writes.head.head.id).toBe(server.head)
  })

  it('say on what they were made, and after which of their own', async () => {
    const server = new Server(() => 0)
    const sent: { base: number; after: number }[] = []
    const inner = server.send
    server.send = (entry) => {
      sent.push({ base: entry.base, after: entry.after.length })
      return inner(entry)
    }
    const { writes } = open(server)
    const add = (value: number) =>
      writes.add({ do: 'write', what: { key: 'a', value } }, 'edit', set('a', value))
    await Promise.all([add(1), add(2), add(3)])
    // The curves of the first two have come: what follows was made on them, after the third.
    writes.confirm(server.revisions[2]!.doc, 2, 3)
    await add(4)
    expect(sent).toEqual([
      { base: 1, after: 0 },
      { base: 1, after: 1 },
      { base: 1, after: 2 },
      { base: 3, after: 1 },
    ])
  })

  it('a refused one can be put over what stands', async () => {
    const server = new Server(random(3))
    server.moods = ['conflict']
    const asked: Entry<Doc>[] = []
    const writes: Writes<Doc, Mine> = new Writes<Doc, Mine>(
      server.state,
      server.state.doc,
      { send: server.send, newest: server.newest, pause: () => Promise.resolve() },
      { changed: () => {}, moved: () => {}, refused: (entry) => asked.push(entry) },
    )
    const what = { key: 'a', value: 1 }
    expect(await writes.add({ do: 'write', what }, 'mine', set('a', 1))).toBe(false)
    expect(writes.shown.has('a')).toBe(false)
    expect(await writes.again(asked[0]!)).toBe(true)
    expect(writes.shown.get('a')).toBe(1)
  })

  /** Nudges of one key: what is set last counts. */
  const gather = { name: 'nudge a', join: (_: Request, next: Request) => next }
  const nudge = (writes: Writes<Doc, Mine>, value: number) =>
    writes.add(
      { do: 'write', what: { key: 'a', value } },
      `nudge ${value}`,
      set('a', value),
      ['a'],
      undefined,
      gather,
    )

  it('of the same keys in a row are one, and one that comes soon after goes on with it', async () => {
    vi.useFakeTimers({ toFake: ['setTimeout', 'clearTimeout', 'Date'] })
    const server = new Server(() => 0.5)
    const sent: { id: string; goesOn: string | null }[] = []
    const inner = server.send
    server.send = (entry) => {
      sent.push(entry)
      return inner(entry)
    }
    const { writes } = open(server)
    const kept: Promise<boolean>[] = []
    for (let value = 1; value <= 30; value++) {
      kept.push(nudge(writes, value))
      expect(writes.shown.get('a')).toBe(value)
      await vi.advanceTimersByTimeAsync(30)
    }
    await vi.advanceTimersByTimeAsync(500)
    expect(await Promise.all(kept)).toEqual(Array(30).fill(true))
    expect(server.revisions.length).toBe(2)
    const late = nudge(writes, 31)
    await vi.advanceTimersByTimeAsync(500)
    expect(await late).toBe(true)
    await vi.advanceTimersByTimeAsync(1100)
    const later = nudge(writes, 32)
    await vi.advanceTimersByTimeAsync(500)
    expect(await later).toBe(true)
    expect(sent.map((entry) => entry.goesOn)).toEqual([null, sent[0]!.id, null])
    vi.useRealTimers()
  })

  it('undone before the server has heard of them are gone at once, and redo brings them back', async () => {
    const server = new Server(random(7))
    server.moods = ['away', 'away', 'away', 'ok']
    const { writes } = open(server)
    const edit = (value: number) =>
      writes.add({ do: 'write', what: { key: 'a', value } }, 'edit', set('a', value))
    const [one, two, three] = [edit(1), edit(2), edit(3)]
    expect(await writes.add({ do: 'undo' }, 'undo')).toBe(true)
    expect(await three).toBe(false)
    expect(writes.shown.get('a')).toBe(2)
    expect(await writes.add({ do: 'undo' }, 'undo')).toBe(true)
    expect(await two).toBe(false)
    expect(writes.shown.get('a')).toBe(1)
    expect(writes.redoes).toBe(true)
    const again = writes.add({ do: 'redo' }, 'redo')
    expect(writes.shown.get('a')).toBe(2)
    // Another change leads elsewhere: what was undone before it is left.
    const other = writes.add({ do: 'write', what: { key: 'b', value: 5 } }, 'b', set('b', 5))
    expect(writes.redoes).toBe(false)
    expect(await Promise.all([one, again, other])).toEqual([true, true, true])
    expect(server.state.doc).toEqual(
      new Map([
        ['a', 2],
        ['b', 5],
      ]),
    )
    expect(server.revisions.length).toBe(4)
  })
})
