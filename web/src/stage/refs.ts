/** The one stage of the bench and what poses joints on it, for commands and bars. */
import type { PosingHand } from './PosingHand'
import type { Stage } from './Stage'

export const stageRef: { current: Stage | null } = { current: null }
/** What poses joints, for Escape. */
export const handRef: { current: PosingHand | null } = { current: null }
