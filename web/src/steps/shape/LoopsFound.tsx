/** Loops of the range: found by the server, listed best first, made the range or a clip. */
import { useState } from 'react'
import { answer, client, type Schemas } from '../../api/client'
import { mayChange } from '../../session/session'
import { Button } from '../../ui/controls'
import { grouped } from '../../ui/numbers'
import { useDoing } from '../../ui/useDoing'
import { useBench } from '../../view/bench'
import { transport } from '../../view/transport'
import { Trouble } from '../Panel'
import { type Made, MadeClips, makeClips } from './PartsOfClip'

type Loop = Schemas['LoopOut']

/** "6.4 mm apart; each round 600 mm, turns 0.3°". */
const told = ({ distance_mm, travel_mm, turned_deg, unlike }: Loop) =>
  `${distance_mm.toFixed(1)} mm apart; each round ${grouped(Math.round(travel_mm))} mm, ` +
  `turns ${turned_deg.toFixed(1)}°` +
  (unlike.length ? `; held at one end alone: ${unlike.join(', ')}` : '')

export function LoopsFound() {
  const clip = useBench((s) => s.clip)
  const [found, setFound] = useState<{ head: number; loops: Loop[] } | null>(null)
  const [said, setSaid] = useState('')
  const [made, setMade] = useState<Made[]>([])
  const { busy, trouble, doing } = useDoing()
  const find = () =>
    doing(async () => {
      const [first, last] = transport.range
      setSaid('Looking for loops …')
      setFound(null)
      setMade([])
      try {
        const loops = await answer(
          client.GET('/api/clips/{clip_id}/loops', {
            params: {
              path: { clip_id: clip!.id },
              query: { revision: clip!.head.id, first, last },
            },
          }),
        )
        setFound({ head: clip!.head.id, loops })
        setSaid(loops.length ? '' : `Within frames ${first} – ${last} nothing comes back.`)
      } catch (error) {
        setSaid('')
        throw error
      }
    })
  const make = ({ first, last }: Loop) =>
    doing(async () => {
      setMade([])
      const name = `${clip!.name}, loop of ${first} – ${last}`
      setMade(await makeClips(clip!, [{ first, last, name, loop: true }]))
    })
  const old = found && found.head !== clip?.head.id
  return (
    <section
      className="flex flex-col gap-2 rounded-[4px] border border-rule-2 p-3"
      aria-label="Loops"
    >
      <p className="text-ink-2">
        Finds spans of the range that end as they begin, in pose and in motion. As a clip of its own
        a loop is closed over all of it.
      </p>
      <Button disabled={!clip || busy} onClick={() => void find()}>
        Find loops
      </Button>
      {said && <p role="status">{said}</p>}
      {trouble && <Trouble>{trouble}</Trouble>}
      {old && <p className="text-warn">The clip has changed since: look again.</p>}
      {found && found.loops.length > 0 && (
        <ul className="flex flex-col gap-1.5" aria-label="Loops found">
          {found.loops.map((loop) => (
            <li key={`${loop.first} ${loop.last}`} className="flex flex-col gap-1">
              <span className="flex items-center gap-1.5">
                <Button
                  className="num"
                  aria-label={`Range ${loop.first} – ${loop.last}`}
                  onClick={() => transport.setRange(loop.first, loop.last)}
                >
                  {loop.first} – {loop.last}
                </Button>
                <span className="flex-1" />
                {clip && mayChange(clip.workspace) && (
                  <Button
                    disabled={busy || Boolean(old)}
                    aria-label={`Make ${loop.first} – ${loop.last} a loop`}
                    onClick={() => void make(loop)}
                  >
                    Make it a clip
                  </Button>
                )}
              </span>
              <span className="num text-ink-2">{told(loop)}</span>
            </li>
          ))}
        </ul>
      )}
      <MadeClips made={made} />
    </section>
  )
}
