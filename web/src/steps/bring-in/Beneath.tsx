/** The take that lies beneath the clip's lines: another one may take its place. */
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { answer, client, type Schemas } from '../../api/client'
import type { Clip } from '../../evaluation/model'
import { mayChange } from '../../session/session'
import { write } from '../../sync/write'
import { Button, inputLook } from '../../ui/controls'
import { counted } from '../../ui/numbers'
import { useBench } from '../../view/bench'
import { Section } from '../Panel'
import { ReadAgain } from './ReadAgain'
import { Versions } from './Versions'

/** What a swap would set aside, in words. */
function aside({ lines, edits }: Schemas['SwapOut']): string {
  const gone = [
    ...(edits ? [counted(edits, 'edit')] : []),
    ...(lines.length ? [`${counted(lines.length, 'line')} (${lines.join(', ')})`] : []),
  ]
  if (!gone.length) return 'Every line and every edit has its place on it.'
  const one = edits + lines.length === 1
  return `${gone.join(' and ')} ${one ? 'has' : 'have'} no place on it: set aside, and listed in the recipe.`
}

export function Beneath({ clip }: { clip: Clip }) {
  const saving = useBench((s) => s.saving)
  const [chosen, setChosen] = useState(clip.take)
  const path = { workspace_id: clip.workspace }
  const takes = useQuery({
    queryKey: ['takes', clip.workspace],
    queryFn: () => answer(client.GET('/api/workspaces/{workspace_id}/takes', { params: { path } })),
  })
  const other = chosen !== clip.take
  const look = useQuery({
    queryKey: ['swap', clip.id, clip.head.id, chosen],
    enabled: other,
    queryFn: () =>
      answer(
        client.GET('/api/clips/{clip_id}/swap', {
          params: {
            path: { clip_id: clip.id },
            query: { revision: clip.head.id, take: chosen },
          },
        }),
      ),
  })
  const alike = takes.data?.filter((t) => t.skeleton === clip.skeleton) ?? []
  return (
    <>
      <Section title="Take beneath the clip">
        <select
          aria-label="Take beneath the clip"
          className={inputLook}
          value={chosen}
          disabled={saving || alike.length < 2}
          onChange={(e) => setChosen(Number(e.target.value))}
        >
          {!alike.some((t) => t.id === clip.take) && (
            <option value={clip.take}>{clip.take_name}</option>
          )}
          {alike.map((t) => (
            <option key={t.id} value={t.id}>
              {t.name}
            </option>
          ))}
        </select>
        {other && (
          <>
            <p role="status" className="min-h-8">
              {look.error?.message ?? (look.data ? aside(look.data) : 'Looking at what follows …')}
            </p>
            <div className="flex gap-2">
              <Button
                kind="primary"
                disabled={saving || !look.data}
                onClick={() => void write({ swap: chosen }, 'The swap')}
              >
                Swap the take
              </Button>
              <Button onClick={() => setChosen(clip.take)}>Keep {clip.take_name}</Button>
            </div>
          </>
        )}
        <p className="text-ink-3">
          Lines of the recipe stay when it is swapped; spans follow in seconds, contacts are found
          anew. Undo brings it back.
        </p>
      </Section>
      <Versions clip={clip} onGoOn={setChosen} />
      {mayChange(clip.workspace) && <ReadAgain clip={clip} onRead={setChosen} />}
    </>
  )
}
