/** Parts of another clip brought over into this one: whose they are, then which joints and frames. */
import type { Clip } from '../../evaluation/model'
import { transport } from '../../view/transport'
import { OperationCard } from '../operation/OperationCard'
import { useSource } from '../operation/SourceClip'

const HIDDEN = ['joints', 'rest', 'at', 'tolerance_deg', 'tolerance_mm']

/** The frame that its frame comes to: where the range begins, or this clip. */
export const landing = () => ({ at: transport.partial ? transport.range[0] : 0 })

export function BringOver({ clip }: { clip: Clip }) {
  const { choice, inputs } = useSource(clip)
  return (
    <OperationCard name="bring_over" hidden={HIDDEN} live={landing} inputs={inputs}>
      {choice('Clip to bring parts of')}
    </OperationCard>
  )
}
