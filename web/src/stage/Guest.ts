/** Another figure on the stage, beside this one or over it. */
import { type Group, Quaternion, Vector3 } from 'three'
import type { Fit } from '../evaluation/fit'
import type { Clip } from '../evaluation/model'
import type { Poses, WorldPose } from '../evaluation/poses'
import type { Skin } from '../evaluation/skin'
import type { Drawn } from '../sync/retargeting'
import { Figure, type Look } from './Figure'
import { Trails } from './Trails'

const OVER = 0.6 // how much of a figure that is laid over is seen

/** Stand what is drawn in its own axes upright. */
export function upright({ reading }: { reading: Pick<Clip['reading'], 'up_axis'> }): Quaternion {
  const turn = new Quaternion()
  if (reading.up_axis === 'z') turn.setFromAxisAngle(new Vector3(1, 0, 0), -Math.PI / 2)
  if (reading.up_axis === 'x') turn.setFromAxisAngle(new Vector3(0, 0, 1), Math.PI / 2)
  return turn
}

/** Where it is laid, by a turn about the up axis and a move in this clip's unit; and at which of its
 * frames, if that does not follow time. */
export interface Stand {
  frame?: number
  fit: Fit
}

/** What it is drawn from, its poses, how much later it is, and metres
 * to the side at which it stands. */
export interface Beside {
  clip: Drawn
  poses: Poses
  offset: number
  /** Frames of its own on each of this clip's. */
  pace?: number
  beside: number
  roles?: (string | null)[]
  /** Its own body, where it is drawn as that. */
  skin?: Skin | null
  /** Where it is laid on the floor by itself, over this figure or away from it. */
  stand?: Stand
  /** A figure of the scene itself: a body of its own, in a lighter ink. */
  partner?: boolean
  /** A joint of its own whose trail is drawn, beside those like the chosen ones. */
  followed?: string
}

export class Guest {
  readonly figure: Figure
  /** Of its own units, so many are one of this clip's. */
  private units: number
  /** Its joint that stands over or under this figure's hips; -1 where it stands by itself. */
  private hips: number
  private poses: Poses
  private offset: number
  private stands: Stand | null
  private pace: number
  /** As it is turned where it stands by itself. */
  private upright: Quaternion
  private trails: Trails

  constructor(
    private beside: Beside,
    clip: Clip,
    private space: Group,
    look: Look,
  ) {
    const { clip: own, poses, offset, pace, beside: aside, roles, skin, stand, partner } = beside
    this.poses = poses
    this.offset = offset
    // One whose parts are known is drawn as a body of its own, but over this one as a ghost.
    const whole = partner || (roles !== undefined && aside > 0)
    const drawn = { roles: roles ?? null, bare: look.bare, pale: partner }
    this.figure = new Figure(own, drawn, whole ? 1 : OVER, skin ?? null)
    const { group } = this.figure
    group.scale.setScalar(own.reading.metres_per_unit / clip.reading.metres_per_unit)
    // Both stand upright, whichever axis is up for either.
    group.quaternion.copy(space.quaternion).invert().multiply(upright(own))
    group.position
      .set(aside / clip.reading.metres_per_unit, 0, 0)
      .applyQuaternion(space.quaternion.clone().invert())
    this.units = clip.reading.metres_per_unit / own.reading.metres_per_unit
    this.stands = stand ?? null
    this.pace = pace ?? 1
    this.upright = group.quaternion.clone()
    this.hips = roles && aside === 0 && !stand ? Math.max(0, roles.indexOf('hips')) : -1
    this.figure.colour(new Set())
    this.trails = new Trails(partner)
    group.add(this.trails.group)
    space.add(group)
  }

  /** The width of its lines, in this clip's units. */
  set line(width: number) {
    this.figure.line = width * this.units
  }

  /** Let it stand elsewhere, or at another frame. */
  stand(stand: Stand): void {
    this.stands = stand
  }

  /** As it stands when this figure stands so. */
  pose(at: number, world: WorldPose, roles: Look['roles']): void {
    const { group, world: theirs } = this.figure
    this.figure.pose(this.poses, this.stands?.frame ?? this.frameAt(at))
    if (this.stands) {
      const { turn, by } = this.stands.fit
      const up = new Vector3(0, 1, 0).applyQuaternion(this.space.quaternion.clone().invert())
      group.quaternion.setFromAxisAngle(up, turn).multiply(this.upright)
      group.position.set(...by)
      return
    }
    if (this.hips < 0) return
    const own = Math.max(0, roles?.indexOf('hips') ?? 0)
    const hips = new Vector3().fromArray(theirs.position, 3 * this.hips)
    hips.multiply(group.scale).applyQuaternion(group.quaternion)
    const way = new Vector3().fromArray(world.position, 3 * own).sub(hips)
    // Level with each other over the floor that both stand on: hips are not of one height.
    const up = new Vector3(0, 1, 0).applyQuaternion(this.space.quaternion.clone().invert())
    group.position.copy(way.addScaledVector(up, -way.dot(up)))
  }

  /** Its frame when this figure is at a frame. */
  private frameAt(at: number): number {
    return (at - this.offset) * this.pace
  }

  /** The trails of a partner's joints over frames of this figure: of those that are taken for the
   * same, and of the one that is followed. */
  trail(roles: ReadonlySet<string>, frames: readonly number[]): void {
    const { clip, followed, partner, roles: theirs } = this.beside
    const drawn = clip.joints.flatMap((joint, k) => {
      const role = theirs?.[k]
      return partner && ((role && roles.has(role)) || joint.name === followed) ? [k] : []
    })
    const within = (f: number) => f >= 0 && f <= this.poses.frames - 1
    const own = frames.map((f) => this.frameAt(f)).filter(within)
    this.trails.show(clip, this.poses, own.length ? drawn : [], own)
  }

  dispose(): void {
    this.figure.dispose()
    this.trails.dispose()
  }

  leave(): void {
    this.space.remove(this.figure.group)
    this.dispose()
  }
}
