/** Stored poses and motions of the workspace: kept, and poses taken by the clip as a hand would. */
import { answer, client, type Schemas, textOf } from '../api/client'
import { between, type JointPose, type Quat } from '../evaluation/rotations'
import { bringCurves } from '../sync/confirmed'
import { notify, useBench } from '../view/bench'
import { useLayers } from '../view/layerChoice'
import { transport } from '../view/transport'
import { changeFor, commitPose, mayPose, poseToHand, showPose } from './posing'

export type Stored = Schemas['StoredOut']

/** Keep what the clip shows, of the selected joints where some are; of one frame it is a pose. */
export async function keepStored(
  name: string,
  tags: string[],
  [first, last]: readonly [number, number],
): Promise<Stored | null> {
  const { clip, joints } = useBench.getState()
  if (!clip) return null
  const body = {
    revision: clip.head.id,
    name,
    tags,
    first: Math.round(first),
    last: Math.round(last),
    joints: joints.map((j) => clip.joints[j]!.name),
  }
  try {
    return await answer(
      client.POST('/api/clips/{clip_id}/stored', { params: { path: { clip_id: clip.id } }, body }),
    )
  } catch (trouble) {
    notify(textOf(trouble))
    return null
  }
}

/** How a joint stood when a pose was asked for, and how it stands in that. */
interface Way {
  joint: number
  from: JointPose
  to: Quat
}

/** What was asked for last, and what came of it: asked again it begins where it began. */
let taking: { asked: string; ways: Promise<Way[]> } | null = null

/** What is asked for: another frame, selection, layer or side is another pose to go to. */
const askedNow = (stored: Stored, mirrored: boolean): string => {
  const { clip, joints } = useBench.getState()
  const { chosen } = useLayers.getState()
  return [stored.id, mirrored, clip?.id, transport.frame, joints.join(), chosen].join(' ')
}

/** Which joints take it: the selected ones, or those that it is about. */
function wantedJoints(stored: Stored): (joint: number) => boolean {
  const { clip, joints } = useBench.getState()
  if (joints.length) return (j) => joints.includes(j)
  const own = new Set(stored.joints)
  const known = clip!.joints.some(({ name }) => own.has(name))
  return (j) => !known || own.has(clip!.joints[j]!.name)
}

/** How joints would stand; none, with a sentence, where that cannot be. */
function waysTo(stored: Stored, mirrored: boolean): Promise<Way[]> {
  const asked = askedNow(stored, mirrored)
  if (taking?.asked !== asked) taking = { asked, ways: bring(stored, mirrored) }
  return taking.ways
}

async function bring(stored: Stored, mirrored: boolean): Promise<Way[]> {
  const { clip } = useBench.getState()
  if (!clip) return []
  const asked = askedNow(stored, mirrored)
  try {
    const { turns } = await answer(
      client.POST('/api/clips/{clip_id}/stored/{stored_id}/pose', {
        params: { path: { clip_id: clip.id, stored_id: stored.id } },
        body: { revision: clip.head.id, frame: transport.frame, at: 0, mirrored },
      }),
    )
    const wanted = wantedJoints(stored)
    const found = Object.entries(turns).filter(([j]) => wanted(Number(j)))
    await bringCurves(found.map(([j]) => Number(j)))
    if (askedNow(stored, mirrored) !== asked) return []
    const ways = found.flatMap(([j, to]) => {
      const from = poseToHand(Number(j))
      return from ? [{ joint: Number(j), from, to: to as Quat }] : []
    })
    if (!ways.length) notify('None of the selected joints is in that pose.')
    return ways
  } catch (trouble) {
    taking = null
    notify(textOf(trouble))
    return []
  }
}

/** Stand by a share of the way from how it stood to a stored pose; kept as any posing is, or only
 * shown. */
export async function takePose(
  stored: Stored,
  share: number,
  mirrored: boolean,
  keep: boolean,
): Promise<void> {
  if (!mayPose()) return
  const asked = askedNow(stored, mirrored)
  const ways = await waysTo(stored, mirrored)
  if (!ways.length || askedNow(stored, mirrored) !== asked) return
  const wanted = new Map<number, JointPose>()
  for (const { joint, from, to } of ways)
    wanted.set(joint, { ...from, rotation: between(from.rotation, to, share) })
  const change = changeFor(wanted)
  if (keep) commitPose(change)
  else showPose(change)
}

/** From now on the way to a pose begins where joints stand then. */
export function beginAnew(): void {
  taking = null
}
