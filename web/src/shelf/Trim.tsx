/** The ends of a take's clip cut off without opening it: a line of its recipe, undone as any. */
import { useState } from 'react'
import { answer, client, clipOfTake, type Schemas } from '../api/client'
import { NumberInput } from '../ui/controls'
import { grouped, seconds } from '../ui/numbers'
import { Picture } from '../ui/Picture'
import { Ask } from './Ask'

export function Trim({
  take,
  onDone,
  onClose,
}: {
  take: Schemas['TakeOut']
  onDone: () => void
  onClose: () => void
}) {
  const { frames, rate } = take.now ?? take
  const end = frames - 1
  const [first, setFirst] = useState(0)
  const [last, setLast] = useState(end)
  const start = async () => {
    const clip = await clipOfTake(take.id)
    const params = { first, last, calibration: false }
    const line = { operation: 'trim', params, scope: {} }
    const body = {
      revision: clip.head.id,
      request_id: crypto.randomUUID(),
      after: [],
      append: line,
    }
    const at = { path: { clip_id: clip.id } }
    await answer(client.POST('/api/clips/{clip_id}/writes', { params: at, body }))
    onDone()
    onClose()
  }
  const left = last - first + 1
  return (
    <Ask
      title={`Trim ${take.name}`}
      action="Trim"
      ready={first < last && left < frames}
      onStart={start}
      onClose={onClose}
    >
      <div className="relative">
        <Picture picture={take.picture} className="h-[124px] rounded-[3px] border border-rule" />
        {/* What is cut off lies under a shade. */}
        <span
          className="absolute inset-y-0 left-0 bg-sunk/80"
          style={{ width: `${(100 * first) / end}%` }}
        />
        <span
          className="absolute inset-y-0 right-0 bg-sunk/80"
          style={{ width: `${(100 * (end - last)) / end}%` }}
        />
      </div>
      <p className="flex items-center gap-2">
        Keep frames
        <NumberInput
          label="First frame that is kept"
          className="w-20"
          digits={0}
          value={first}
          onCommit={(v) => setFirst(Math.min(Math.max(Math.round(v), 0), last - 1))}
        />
        –
        <NumberInput
          label="Last frame that is kept"
          className="w-20"
          digits={0}
          value={last}
          onCommit={(v) => setLast(Math.max(Math.min(Math.round(v), end), first + 1))}
        />
        of 0 – {grouped(end)}
      </p>
      <p className="num text-ink-2">
        {seconds((left - 1) / (rate[0]! / rate[1]!))} of{' '}
        {seconds((frames - 1) / (rate[0]! / rate[1]!))} are kept. The take stays as it is.
      </p>
    </Ask>
  )
}
