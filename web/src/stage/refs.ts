/** The one stage of the bench and what poses joints on it, for commands and bars. */

import type { MeetHand } from './MeetHand'
import type { PlaceHand } from './PlaceHand'
import type { PosingHand } from './PosingHand'
import type { Stage } from './Stage'

export const stageRef: { current: Stage | null } = { current: null }
/** What poses joints, for Escape. */
export const handRef: { current: PosingHand | null } = { current: null }
/** What moves plants' places, for Escape. */
export const placeHandRef: { current: PlaceHand | null } = { current: null }
/** What lays the clip that follows, for Escape. */
export const meetHandRef: { current: MeetHand | null } = { current: null }
