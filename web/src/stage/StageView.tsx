/** The stage as a pane: canvas, what is shown, view buttons. */
import { ArrowRight } from 'lucide-react'
import { type MouseEvent, type PointerEvent, useEffect, useRef, useState } from 'react'
import { selectJoints } from '../actions/choose'
import { laidAt, useJoining } from '../actions/joining'
import { bringPartners, itsJoint, paceOf, standOf, usePartners } from '../actions/partners'
import { frameBefore, usePins } from '../actions/pins'
import { samePlant } from '../actions/plants'
import { correctionsAt, onLive, posedJoints, usePosing } from '../actions/posing'
import { corrected } from '../evaluation/corrections'
import { axisOf, channelKey, readoutUnit, splitKey, turns } from '../evaluation/curves'
import {
  inFigure,
  joinedBy,
  layered,
  ledInFigure,
  live,
  placed,
  placedProp,
} from '../evaluation/layering'
import { channelsOfProp, jointsOf, layerOf, ofFigure } from '../evaluation/owners'
import { localAt, type Overrides, propAt } from '../evaluation/poses'
import { channelAxis, type JointPose, jointPose, propPose } from '../evaluation/rotations'
import { ActiveLayer } from '../layers/ActiveLayer'
import { withPlants } from '../sync/plan'
import { useRetargeting } from '../sync/retargeting'
import { useSkin } from '../sync/skins'
import { counted } from '../ui/numbers'
import { useBench } from '../view/bench'
import { draft } from '../view/draft'
import { seen, useLayers } from '../view/layerChoice'
import { watchPane } from '../view/pane'
import { shownChannels } from '../view/shown'
import { transport } from '../view/transport'
import { useViewing } from '../view/viewing'
import { useDropped } from './Dropped'
import { MeetHand } from './MeetHand'
import { PlaceHand } from './PlaceHand'
import { PoseBar, UnkeyedBar } from './PoseBar'
import { PosingHand } from './PosingHand'
import { ReviewBar } from './ReviewBar'
import { handRef, meetHandRef, placeHandRef, stageRef } from './refs'
import { useReview } from './review'
import { SoloBar } from './SoloBar'
import { Stage } from './Stage'
import { StageBar } from './StageBar'

/** Channels dragged at once from which the stage draws fewer pictures. */
const MANY = 40

/** Joints that are dragged, or played without a channel, with what plants hold held. */
const overridesAt = (frame: number): Overrides | undefined => withPlants(frame, dragged(frame))

/** Joints that are dragged, or played without a channel, from the curves that are here. */
function dragged(frame: number): Overrides | undefined {
  const below = withoutCorrections(frame)
  const by = correctionsAt(frame)
  const { clip, poses } = useBench.getState()
  if (!by.size || !clip || !poses) return below
  const out = new Map(below)
  for (const [joint, correction] of by) {
    const pose = out.get(joint) ?? localAt(clip.joints, poses, joint, frame)
    out.set(joint, corrected(pose, correction))
  }
  return out
}

function withoutCorrections(frame: number): Map<number, JointPose> | undefined {
  const { ahead, muted } = draft
  const posed = posedJoints(frame)
  const { curves, poses, ...state } = useBench.getState()
  const clip = state.clip && seen(state.clip)
  if (!clip || (!ahead.size && !muted.size && !posed.size)) return undefined
  const start = transport.range[0]
  const joints = new Set([
    ...jointsOf([...ahead.keys(), ...muted]),
    ...joinedBy(clip, ahead.keys()),
  ])
  const shown = (key: string) => ahead.get(key) ?? curves.get(key)
  const out = new Map<number, JointPose>()
  for (const joint of joints) {
    // A muted channel stays as it is at the start of the range.
    const pose = jointPose(clip, joint, shown, frame, (key) => (muted.has(key) ? start : frame))
    const whole = pose && layered(clip, joint, pose, shown, frame)
    if (whole) out.set(joint, placed(clip, joint, whole))
  }
  // A layer in the figure's space leads all that hangs together: from how it stands.
  const all = live(clip.layers)
  const [figured, ...more] = all.filter(inFigure)
  const led = figured && [...ahead.keys()].some((key) => layerOf(clip, key) === figured)
  if (led && !more.length && poses) {
    const local = (joint: number) => localAt(clip.joints, poses, joint, frame)
    const before = (key: string) => curves.get(key)
    const over = all.slice(all.indexOf(figured) + 1)
    const found = ledInFigure(clip, figured, over, local, before, shown, frame)
    for (const [joint, pose] of found ?? []) out.set(joint, pose)
  }
  for (const [joint, pose] of posed)
    out.set(joint, placed(clip, joint, layered(clip, joint, pose, shown, frame) ?? pose))
  return out
}

/** A prop whose curves are dragged, as they have it. */
function propAhead(id: number, frame: number) {
  const { ahead } = draft
  if (!channelsOfProp(id).some((key) => ahead.has(key))) return undefined
  const { clip, curves, poses } = useBench.getState()
  const was = propPose(id, (key) => curves.get(key), frame)
  const is = propPose(id, (key) => ahead.get(key) ?? curves.get(key), frame)
  const at = clip?.props.findIndex((p) => p.id === id) ?? -1
  const there = poses && at >= 0 ? propAt(poses, at, frame) : undefined
  return is && was && there ? placedProp(clip!, was, is, there) : is
}

/** Frames of all keys of the channels that are shown, in order. */
function keyTimes(): number[] {
  const state = useBench.getState()
  const times = new Set<number>()
  for (const key of shownChannels(state)) {
    const curve = state.curves.get(key)
    if (curve?.kind === 'keyed') for (const t of curve.time) times.add(Math.round(t))
  }
  return [...times].sort((a, b) => a - b)
}

export function StageView() {
  const canvas = useRef<HTMLCanvasElement>(null)
  const left = useRef<HTMLDivElement>(null)
  const right = useRef<HTMLDivElement>(null)
  const [hand, setHand] = useState<PosingHand | null>(null)
  const [trouble, setTrouble] = useState(false)
  const clip = useBench((s) => s.clip)
  const poses = useBench((s) => s.poses)
  const preview = useBench((s) => s.preview)
  const joints = useBench((s) => s.joints)
  const ghost = useBench((s) => s.ghost)
  const findings = useBench((s) => s.findings)
  const reviewing = useReview((s) => s.on)
  const taking = useLayers((s) => s.chosen)
  const { on: posing, mode, axes, unkeyed } = usePosing()
  useEffect(() => {
    const element = canvas.current!
    let stage: Stage
    try {
      stage = new Stage(element, [left.current!, right.current!])
    } catch {
      setTrouble(true)
      return
    }
    stageRef.current = stage
    const toNow = () => {
      stage.setRound(transport.round, transport.range, transport.onward)
      stage.setFrame(transport.frame)
    }
    const stop = watchPane(element, stage, toNow, () => stage.recolour())
    stage.overrides = overridesAt
    stage.propAhead = propAhead
    stage.heavy = () => draft.curves.size > MANY
    const meetHand = new MeetHand(stage)
    meetHandRef.current = meetHand
    const own = new PosingHand(stage)
    stage.onPosed = () => own.update()
    setHand(own)
    const placeHand = new PlaceHand(stage)
    placeHandRef.current = placeHand
    handRef.current = own
    // With every picture, and so without React.
    stage.onAway = (away) => {
      const button = lost.current
      if (!button) return
      if (button.hidden !== !away) button.hidden = !away
      if (!away) return
      button.style.transform = `translate(${Math.round(away.x)}px, ${Math.round(away.y)}px) translate(-50%, -50%)`
      const arrow = button.querySelector('svg')
      if (arrow) arrow.style.transform = `rotate(${away.angle.toFixed(3)}rad)`
    }
    const stops = [draft.subscribe(() => stage.refresh()), onLive(() => stage.refresh())]
    return () => {
      stop()
      for (const end of stops) end()
      own.dispose()
      placeHand.dispose()
      meetHand.dispose()
      placeHandRef.current = null
      meetHandRef.current = null
      handRef.current = null
      stage.dispose()
      stageRef.current = null
    }
  }, [])

  const { trails, ghosts, span, apart, hold, hovered, guide, guidePoses } = useViewing()
  const { split, follow, grid, post, person, bare, own, weight } = useViewing()
  const curves = useBench((s) => s.curves)
  const channels = useBench((s) => s.channels)

  // biome-ignore lint/correctness/useExhaustiveDependencies: key times follow what is shown
  useEffect(() => {
    const stage = stageRef.current
    if (!stage) return
    const times = hold ? keyTimes() : []
    stage.frameShown = (frame) =>
      times.length ? (times.findLast((t) => t <= frame) ?? times[0]!) : frameBefore(frame)
    stage.refresh()
  }, [hold, curves, joints, channels])

  useEffect(() => usePins.subscribe(() => stageRef.current?.refresh()), [])

  useEffect(() => {
    const keysOf = (joint: number) => {
      const out = new Set<number>()
      for (const name of clip?.joints[joint]?.channels ?? []) {
        const curve = curves.get(channelKey(joint, name))
        if (curve?.kind === 'keyed') for (const t of curve.time) out.add(Math.round(t))
      }
      return out
    }
    stageRef.current?.setAround({ trails, ghosts, span, apart }, keysOf)
  }, [trails, ghosts, span, apart, clip, curves])

  useEffect(() => {
    stageRef.current?.setHovered(() => {
      const { clip: now, curves: have } = useBench.getState()
      if (!hovered || !now || !ofFigure(hovered) || readoutUnit(hovered) !== undefined) return null
      const { joint, channel } = splitKey(hovered)
      const seen = (key: string) => draft.ahead.get(key) ?? have.get(key)
      const axis = channelAxis(now, joint, channel, seen, transport.frame)
      return { joint, axis, turns: turns(hovered), colour: axisOf(hovered) }
    })
  }, [hovered])

  const retargeting = useBench((s) => s.step === 'retarget')
  const retargeted = useRetargeting((s) => (retargeting ? s.preview : null))
  const aside = useRetargeting((s) => s.beside)
  const theirs = own ? (retargeted ?? guide)?.doc.skin : null
  const joining = useBench((s) => s.step === 'join')
  const pairs = useJoining((s) => (joining ? s.pairs : null))
  const over = useJoining((s) => s.over)
  const wished = useJoining((s) => s.parts)
  const guestSkin = useSkin(clip?.workspace, theirs)
  useEffect(() => {
    const stage = stageRef.current
    if (!stage) return
    if (retargeted) {
      const { doc, poses: made, roles: parts } = retargeted
      stage.setGuide({
        clip: doc,
        poses: made,
        offset: 0,
        beside: aside,
        roles: parts,
        skin: guestSkin,
      })
      stage.fit()
    } else if (pairs && clip) {
      const parts = useBench.getState().body?.joints.map((joint) => joint.role) ?? []
      const stand = { frame: 0, fit: { turn: 0, by: [0, 0, 0] as [number, number, number] } }
      stage.setGuide({ clip, poses: pairs.part, offset: 0, beside: 0, roles: parts, stand })
    } else
      stage.setGuide(
        guide && guidePoses
          ? {
              clip: guide.doc,
              poses: guidePoses,
              offset: guide.offset,
              beside: guide.beside,
              skin: guestSkin,
            }
          : null,
      )
  }, [guide, guidePoses, retargeted, aside, guestSkin, pairs, clip])

  useEffect(() => {
    if (clip) void bringPartners(clip)
  }, [clip])

  // biome-ignore lint/correctness/useExhaustiveDependencies: it may be wished elsewhere
  useEffect(() => {
    const stage = stageRef.current
    if (!stage || !clip) return
    if (!pairs || !over) stage.setMeeting(null)
    else {
      const stand = { frame: over.enter, fit: laidAt(clip, pairs, over) }
      stage.setMeeting({ poses: pairs.before, at: over.leave }, stand)
    }
  }, [pairs, over, wished, clip])

  useEffect(() => {
    const stage = stageRef.current
    if (!stage || !clip || !poses) return
    stage.setClip(clip)
    const previewed = preview?.whole?.poses
    stage.setPoses(previewed ?? poses, previewed && ghost ? poses : null)
    // A join makes it longer: all of it is played before it is applied.
    transport.lengthen(preview?.operation === 'join' && previewed ? previewed.frames : clip.frames)
    stage.setFrame(transport.frame)
  }, [clip, poses, preview, ghost])

  const roles = useBench((s) => s.body?.joints)
  const skin = useSkin(clip?.workspace, own ? clip?.skin : null)
  useEffect(() => {
    stageRef.current?.setSkin(skin)
  }, [skin])
  useEffect(() => {
    const known = clip && roles?.length === clip.joints.length ? roles.map((r) => r.role) : null
    stageRef.current?.setLook({ roles: known, bare })
  }, [clip, roles, bare])

  const centre = useBench((s) => s.body?.centre)
  useEffect(() => {
    stageRef.current?.setWeight(weight ? (centre ?? null) : null)
  }, [weight, centre])

  const figures = usePartners((s) => s.figures)
  const chosen = usePartners((s) => s.chosen)
  const joint = usePartners((s) => s.joint)
  useEffect(() => {
    const shown = clip?.partners.filter((partner) => !partner.muted) ?? []
    const found = shown.flatMap((partner) => {
      const figure = figures.get(partner.digest)
      if (!figure) return []
      const { poses, roles } = figure
      const stand = { fit: standOf(clip!, partner) }
      const pace = paceOf(clip!, figure.clip)
      const laid = { offset: partner.later, pace, beside: 0, stand, partner: true }
      const followed = partner.name === chosen ? itsJoint(figure, joint) : undefined
      return [{ clip: figure.clip, poses, roles, followed, ...laid }]
    })
    stageRef.current?.setPartners(found)
  }, [clip, figures, chosen, joint])

  const placing = useBench((s) => s.step === 'plant' && s.preview === null)
  const plant = useBench((s) => s.plant)
  useEffect(() => {
    if (!clip || !placing) {
      stageRef.current?.setPlaces(null)
      return
    }
    // The plant that stands now: a revision makes it anew.
    const chosen = clip.plants.find((p) => samePlant(p, plant)) ?? null
    const feet = new Map<string, number>()
    for (const side of ['left', 'right'])
      for (const [role, part] of [
        ['foot', 'heel'],
        ['toe', 'toe'],
      ]) {
        const joint = roles?.findIndex((r) => r.role === `${side} ${role}`) ?? -1
        if (joint >= 0) feet.set(`${side} ${part}`, joint)
      }
    stageRef.current?.setPlaces({ chosen, joints: feet })
  }, [clip, placing, plant, roles])

  useEffect(() => {
    stageRef.current?.setSelected(joints)
  }, [joints])

  useEffect(() => {
    const keys = reviewing ? [] : [...(unkeyed?.values.keys() ?? [])]
    const by = reviewing ? [] : [...(unkeyed?.by.keys() ?? [])]
    const posed = [...keys.filter(ofFigure).map((key) => splitKey(key).joint), ...by]
    stageRef.current?.setUnkeyed(new Set(posed))
  }, [unkeyed, reviewing])

  useEffect(() => {
    if (!clip || !findings) return
    const index = new Map(clip.joints.map((j, k) => [j.name, k]))
    const open = findings.filter((f) => !f.accepted && f.kind !== 'idle')
    stageRef.current?.setFindings((frame) => {
      const here = open.filter((f) => f.first - 1 <= frame && frame <= f.last + 1)
      return [...new Set(here.flatMap((f) => index.get(f.joint) ?? []))]
    })
  }, [clip, findings])

  useEffect(() => {
    stageRef.current?.setSplit(split)
  }, [split])

  useEffect(() => {
    if (stageRef.current) stageRef.current.follow = follow
  }, [follow])

  useEffect(() => {
    const off = { grid, post: false, person: false }
    stageRef.current?.setReferences(reviewing ? off : { grid, post, person })
    if (!reviewing && (post || person)) stageRef.current?.fit()
    stageRef.current?.setPlain(reviewing)
  }, [grid, post, person, reviewing])

  // biome-ignore lint/correctness/useExhaustiveDependencies: the gizmo follows these
  useEffect(() => {
    stageRef.current?.refresh()
  }, [posing, mode, axes, unkeyed, joints, curves, taking])

  const under = (index: 0 | 1, e: MouseEvent<HTMLDivElement>): number => {
    const stage = stageRef.current
    if (!stage || reviewing) return -1
    const box = e.currentTarget.getBoundingClientRect()
    return stage.pick(stage.eyes[index], e.clientX - box.left, e.clientY - box.top)
  }
  const pick = (index: 0 | 1) => (e: MouseEvent<HTMLDivElement>) => {
    const [x, y] = pressed.current
    if (Math.hypot(e.clientX - x, e.clientY - y) > 4) return
    const joint = under(index, e)
    if (joint < 0) return
    const { joints: chosen } = useBench.getState()
    selectJoints(e.shiftKey ? [...new Set([...chosen, joint])] : [joint])
  }
  const pressed = useRef<[number, number]>([0, 0])
  const pane = (index: 0 | 1) => ({
    onPointerDown: (e: PointerEvent<HTMLDivElement>) => {
      pressed.current = [e.clientX, e.clientY]
    },
    onClick: pick(index),
    onPointerMove: (e: PointerEvent<HTMLDivElement>) => {
      const joint = e.buttons || transport.playing ? -1 : under(index, e)
      const box = stageBox.current?.getBoundingClientRect()
      nameAt(joint < 0 || !box ? null : [e.clientX - box.left, e.clientY - box.top], joint)
    },
    onPointerLeave: () => nameAt(null, -1),
  })
  /** The joint under the pointer by its name, beside it; no tree is rendered for it. */
  const nameAt = (at: [number, number] | null, joint: number) => {
    const tag = name.current
    if (!tag) return
    tag.hidden = at === null
    if (!at) return
    tag.textContent = useBench.getState().clip?.joints[joint]?.name ?? ''
    tag.style.transform = `translate(${Math.round(at[0]) + 12}px, ${Math.round(at[1]) + 14}px)`
  }
  const stageBox = useRef<HTMLDivElement>(null)
  const name = useRef<HTMLDivElement>(null)
  const lost = useRef<HTMLButtonElement>(null)
  const dropped = useDropped()
  return (
    <section
      aria-label="Stage"
      className={`flex flex-col overflow-hidden bg-gradient-to-b from-raised to-paper ${reviewing ? 'fixed inset-0 z-40' : 'relative min-h-0 min-w-0 flex-1'}`}
    >
      {!reviewing && (
        <StageBar>
          {clip && counted(clip.joints.length, 'joint')}
          {preview?.whole && ghost && <span className="text-ink-3"> · preview over before</span>}
        </StageBar>
      )}
      <div ref={stageBox} className="relative min-h-0 flex-1" {...dropped.handlers}>
        <canvas ref={canvas} data-testid="stage" className="absolute inset-0 size-full" />
        <div
          ref={left}
          data-testid="view-one"
          className={`absolute inset-y-0 left-0 touch-none ${split && !reviewing ? 'w-1/2' : 'w-full'}`}
          {...pane(0)}
        />
        <div
          ref={right}
          data-testid="view-two"
          className={`absolute inset-y-0 right-0 w-1/2 touch-none border-rule-2 border-l ${split && !reviewing ? '' : 'hidden'}`}
          {...pane(1)}
        />
        <div
          ref={name}
          hidden
          data-testid="under-pointer"
          className="pointer-events-none absolute top-0 left-0 rounded-[3px] bg-ink px-1.5 py-0.5 text-[12px] text-raised"
        />
        <button
          ref={lost}
          type="button"
          hidden
          data-testid="bring-back"
          aria-label="Bring the figure back into view"
          className="absolute top-0 left-0 flex h-7 items-center gap-1.5 rounded-[3px] border border-ink bg-raised px-2 font-semibold"
          onClick={() => stageRef.current?.fit()}
        >
          Figure
          <ArrowRight size={14} aria-hidden />
        </button>
        {dropped.cover}
        {!reviewing && <ActiveLayer className="absolute top-2 left-3" />}
        {trouble && (
          <p className="absolute inset-0 grid place-items-center p-6 text-center text-ink-2">
            This browser offers no WebGL, so the stage cannot be drawn. Curves, steps and delivery
            work without it.
          </p>
        )}
        {reviewing ? (
          <ReviewBar />
        ) : (
          <div className="pointer-events-none absolute inset-x-3 bottom-2 flex flex-wrap-reverse items-center gap-2 *:pointer-events-auto">
            <SoloBar />
            {posing && <PoseBar hand={hand} />}
            {unkeyed && <UnkeyedBar unkeyed={unkeyed} />}
          </div>
        )}
      </div>
    </section>
  )
}
