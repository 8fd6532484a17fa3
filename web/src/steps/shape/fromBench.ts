/** Parameters that the bench itself says: the range of the time strip, now. */
import { transport } from '../../view/transport'

const range = () => ({ first: transport.range[0], last: transport.range[1] })

const LIVE: Record<string, () => Record<string, unknown>> = {
  repeat: range,
  remove_span: range,
  scale_span: range,
  lean: () => ({ frame: transport.frame }),
  shift_from: () => ({ frame: transport.frame }),
  insert_frames: () => ({ after: transport.frame }),
  slide: () => ({ about: transport.frame }),
  begin_loop: () => ({ frame: transport.frame }),
}

const HIDDEN: Record<string, string[]> = {
  clamp: ['feet'],
  repeat: ['first', 'last'],
  remove_span: ['first', 'last'],
  scale_span: ['first', 'last'],
  lean: ['frame'],
  shift_from: ['frame'],
  insert_frames: ['after'],
  slide: ['about'],
  begin_loop: ['frame'],
}

export const fromBench = (name: string) => ({ hidden: HIDDEN[name] ?? [], live: LIVE[name] })
