/** Range to whole cycles: asked of the server, set on the time strip. */
import { useState } from 'react'
import { answer, client } from '../../api/client'
import { Button } from '../../ui/controls'
import { useBench } from '../../view/bench'
import { transport } from '../../view/transport'

export function CyclesButton() {
  const clip = useBench((s) => s.clip)
  const [told, setTold] = useState('')
  const find = async () => {
    const [first, last] = transport.range
    setTold('Looking for whole cycles …')
    const found = await answer(
      client.GET('/api/clips/{clip_id}/cycles', {
        params: { path: { clip_id: clip!.id }, query: { revision: clip!.head.id, first, last } },
      }),
    )
    if (!found) return setTold(`From frame ${first} on no pose comes back within the range.`)
    transport.setRange(found.first, found.last)
    setTold(
      `${found.count} ${found.count === 1 ? 'cycle' : 'cycles'}, frames ${found.first} – ` +
        `${found.last}; the two poses are ${found.gap_deg.toFixed(2)}° apart a joint.`,
    )
  }
  return (
    <section className="flex flex-col gap-2 rounded-[4px] border border-rule-2 p-3">
      <h3 className="font-semibold">Range to whole cycles</h3>
      <p className="text-ink-2">
        Ends the range where the pose of its first frame comes back. Then close the loop over it.
      </p>
      <Button onClick={() => void find()} disabled={!clip}>
        Find cycles
      </Button>
      {told && <p role="status">{told}</p>}
    </section>
  )
}
