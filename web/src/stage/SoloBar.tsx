/** Said over the stage while some layers are seen alone: what is delivered is all of them. */
import { endSolo } from '../actions/layers'
import { Button } from '../ui/controls'
import { useBench } from '../view/bench'
import { useLayers } from '../view/layerChoice'

export function SoloBar() {
  const solo = useLayers((s) => s.solo)
  const layers = useBench((s) => s.clip?.layers)
  const names = layers?.filter((x) => solo.includes(x.id)).map((x) => x.name) ?? []
  if (!names.length) return null
  return (
    <div className="flex items-center gap-2 rounded-[4px] border border-signal bg-raised px-2.5 py-1">
      <b role="status">Solo: {names.join(', ')}</b>
      <span className="text-ink-2">Other layers are hidden here, not in what is delivered.</span>
      <Button onClick={endSolo}>End solo</Button>
    </div>
  )
}
