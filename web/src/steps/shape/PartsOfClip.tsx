/** The range, or both sides of now, as clips of their own. */
import { useState, useSyncExternalStore } from 'react'
import { Link as To } from 'react-router'
import { answer, client, type Schemas } from '../../api/client'
import type { Clip } from '../../evaluation/model'
import { mayChange } from '../../session/session'
import { Button } from '../../ui/controls'
import { useDoing } from '../../ui/useDoing'
import { useBench } from '../../view/bench'
import { transport } from '../../view/transport'
import { Trouble } from '../Panel'

export type Made = Schemas['PartOut']

/** Make spans of the clip clips of their own. */
export const makeClips = (clip: Clip, spans: Schemas['SpanIn'][]): Promise<Made[]> =>
  answer(
    client.POST('/api/clips/{clip_id}/parts', {
      params: { path: { clip_id: clip.id } },
      body: { revision: clip.head.id, request_id: crypto.randomUUID(), spans },
    }),
  )

export function MadeClips({ made }: { made: readonly Made[] }) {
  if (!made.length) return null
  return (
    <ul className="flex flex-col gap-1" role="status">
      {made.map(({ clip, name }) => (
        <li key={clip}>
          Made:{' '}
          <To to={`/clip/${clip}`} className="underline">
            {name}
          </To>
        </li>
      ))}
    </ul>
  )
}

const where = () => `${transport.frame} ${transport.range.join(' ')}`

export function PartsOfClip() {
  const clip = useBench((s) => s.clip)
  useSyncExternalStore(transport.subscribe, where)
  const [made, setMade] = useState<Made[]>([])
  const { busy, trouble, doing } = useDoing()
  if (!clip || !mayChange(clip.workspace)) return null
  const [first, last] = transport.range
  const now = Math.round(transport.frame)
  const end = clip.frames - 1
  const make = (spans: { first: number; last: number }[]) =>
    doing(async () => {
      setMade([])
      const plain = spans.map((span) => ({ ...span, name: '', loop: false }))
      setMade(await makeClips(clip, plain))
    })
  return (
    <section
      className="flex flex-col gap-2 rounded-[4px] border border-rule-2 p-3"
      aria-label="Parts of the clip"
    >
      <p className="text-ink-2">
        Clips of their own, with all that the clip has. This one stays as it is.
      </p>
      <div className="flex gap-1.5 [&>button]:flex-1">
        <Button disabled={busy} onClick={() => void make([{ first, last }])}>
          Range as a clip
        </Button>
        <Button
          disabled={busy || now <= 0 || now >= end}
          onClick={() =>
            void make([
              { first: 0, last: now },
              { first: now, last: end },
            ])
          }
        >
          Split at now
        </Button>
      </div>
      {trouble && <Trouble>{trouble}</Trouble>}
      <MadeClips made={made} />
    </section>
  )
}
