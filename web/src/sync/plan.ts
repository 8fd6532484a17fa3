/** The plan of the head's plants, brought for what will be dragged. */
import { addressOf, numbers } from '../api/client'
import { type Plan, planOf, solvedOver } from '../evaluation/planting'
import type { Overrides } from '../evaluation/poses'
import { useBench } from '../view/bench'
import { soloNamed } from '../view/layerChoice'

let plan: Plan | null = null
/** The layers that were seen alone when it was made. */
let alone: string | undefined

/** The plan of the clip's head, for what will be dragged. */
export async function bringPlan(): Promise<void> {
  const { clip } = useBench.getState()
  if (!clip?.plants.some((p) => !p.muted && p.strength > 0)) {
    plan = null
    return
  }
  const solo = soloNamed()
  if (plan?.clip === clip.id && plan.revision === clip.head.id && alone === solo) return
  const got = await numbers(addressOf(clip, 'plan', { revision: clip.head.id, solo }))
  if (useBench.getState().clip?.head.id !== clip.head.id) return
  plan = planOf(clip, got)
  alone = solo
}

/** What is dragged, with the limbs that plants hold solved over it; as it is where none are. */
export function withPlants(frame: number, overrides: Overrides | undefined): Overrides | undefined {
  const { clip, poses } = useBench.getState()
  if (!plan || !clip || !poses || !overrides?.size || plan.clip !== clip.id) return overrides
  return solvedOver(clip, poses, plan, frame, overrides)
}
