/** Versions of the take: a newer one to go on from, and the clip as the next one. */
import { useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { answer, client, type Schemas } from '../../api/client'
import type { Clip } from '../../evaluation/model'
import { mayChange } from '../../session/session'
import { Button } from '../../ui/controls'
import { useDoing } from '../../ui/useDoing'
import { Section, Trouble } from '../Panel'

type Version = Schemas['VersionOut']

export function Versions({ clip, onGoOn }: { clip: Clip; onGoOn: (take: number) => void }) {
  const queries = useQueryClient()
  const [made, setMade] = useState<{ head: number; version: Version } | null>(null)
  const { busy, trouble, doing } = useDoing()
  if (!mayChange(clip.workspace)) return null
  const take = (asked: () => Promise<Version>) =>
    doing(async () => {
      setMade({ head: clip.head.id, version: await asked() })
      await queries.invalidateQueries({ queryKey: ['takes', clip.workspace] })
    })
  const make = () =>
    take(() =>
      answer(
        client.POST('/api/clips/{clip_id}/version', {
          params: { path: { clip_id: clip.id } },
          body: { revision: clip.head.id, request_id: crypto.randomUUID() },
        }),
      ),
    )
  const swap = (version: Version, clips: number[]) =>
    take(() =>
      answer(
        client.POST('/api/takes/{take_id}/version/swaps', {
          params: { path: { take_id: version.take } },
          body: { clips, request_id: crypto.randomUUID() },
        }),
      ),
    )
  const newer = clip.newer_take
  const shown = made?.version
  return (
    <Section title="Versions of the take">
      {newer && (
        <p className="flex items-center gap-2">
          <span className="flex-1">{newer.name} is newer than what this clip lies on.</span>
          <Button onClick={() => onGoOn(newer.id)}>Look at it</Button>
        </p>
      )}
      <p className="text-ink-2">
        The clip as it stands can be the take’s next version: clips on the take may go on from it,
        with their own lines on top.
      </p>
      <Button disabled={busy || made?.head === clip.head.id} onClick={() => void make()}>
        Make the next version
      </Button>
      {trouble && <Trouble>{trouble}</Trouble>}
      {shown && (
        <div role="status" className="flex flex-col gap-1.5">
          <p>
            Made: {shown.name}.{' '}
            {shown.clips.length
              ? 'These clips lie on an older version:'
              : 'No other clip lies on an older version.'}
          </p>
          {shown.clips.length > 0 && (
            <>
              <ul className="flex max-h-40 flex-col gap-1 overflow-y-auto">
                {shown.clips.map(({ clip: other, name }) => (
                  <li key={other} className="flex items-center gap-2">
                    <span className="flex-1 truncate" title={name}>
                      {name}
                    </span>
                    <Button
                      disabled={busy}
                      aria-label={`Let ${name} go on from it`}
                      onClick={() => void swap(shown, [other])}
                    >
                      Go on from it
                    </Button>
                  </li>
                ))}
              </ul>
              {shown.clips.length > 1 && (
                <Button
                  disabled={busy}
                  onClick={() =>
                    void swap(
                      shown,
                      shown.clips.map((c) => c.clip),
                    )
                  }
                >
                  All of them
                </Button>
              )}
            </>
          )}
        </div>
      )}
    </Section>
  )
}
