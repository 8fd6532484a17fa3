/** The stage as a pane: canvas, what is shown, view buttons. */
import { Maximize2 } from 'lucide-react'
import { useEffect, useRef, useState } from 'react'
import { FULL, toggleFull, useFullPane } from '../bench/fullPane'
import { selectJoints, shownChannels, useBench } from '../clip/bench'
import { axisOf, channelKey, readoutUnit, splitKey, turns } from '../clip/curves'
import { draft } from '../clip/draft'
import { channelAxis, jointPose } from '../clip/local'
import { frameBefore, usePins } from '../clip/pins'
import type { Overrides } from '../clip/poses'
import { transport } from '../clip/transport'
import { useViewing } from '../clip/viewing'
import { Button, Check, NumberInput, Popover, Toggle } from '../ui/controls'
import { watchPane } from '../ui/pane'
import { Stage, type View } from './Stage'

/** The one stage of the bench, for commands. */
export const stageRef: { current: Stage | null } = { current: null }

/** Joints that are dragged, or played without a channel, from the curves that are here. */
function overridesAt(frame: number): Overrides | undefined {
  const { ahead, muted } = draft
  if (!ahead.size && !muted.size) return undefined
  const { clip, curves } = useBench.getState()
  if (!clip) return undefined
  const start = transport.range[0]
  const joints = new Set([...ahead.keys(), ...muted].map((key) => splitKey(key).joint))
  const out = new Map<number, NonNullable<ReturnType<typeof jointPose>>>()
  for (const joint of joints) {
    // A muted channel stays as it is at the start of the range.
    const pose = jointPose(
      clip,
      joint,
      (key) => ahead.get(key) ?? curves.get(key),
      frame,
      (key) => (muted.has(key) ? start : frame),
    )
    if (pose) out.set(joint, pose)
  }
  return out
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

/** What is drawn about the figure: trails, ghosts, poses held. */
function ShowMore() {
  const view = useViewing()
  const set = useViewing.setState
  return (
    <Popover trigger={<Button>Show</Button>}>
      <div className="flex w-56 flex-col gap-1">
        <Check on={view.trails} onChange={(trails) => set({ trails })}>
          Trails of selected joints
        </Check>
        <Check on={view.ghosts} onChange={(ghosts) => set({ ghosts })}>
          Ghost poses
        </Check>
        <Count label="before and after" value={view.span} onChange={(span) => set({ span })} />
        <Count label="between ghosts" value={view.apart} onChange={(apart) => set({ apart })} />
        <Check on={view.hold} onChange={(hold) => set({ hold })}>
          Hold preview: pose to pose
        </Check>
      </div>
    </Popover>
  )
}

function Count({
  label,
  value,
  onChange,
}: {
  label: string
  value: number
  onChange: (value: number) => void
}) {
  return (
    <label className="flex items-center justify-between gap-2 text-ink-2">
      {label}
      <span className="flex items-center gap-1.5">
        <NumberInput
          label={`${label}, frames`}
          value={value}
          onCommit={(v) => onChange(Math.min(Math.max(Math.round(v), 1), 200))}
        />
        frames
      </span>
    </label>
  )
}

export function StageView() {
  const canvas = useRef<HTMLCanvasElement>(null)
  const [follow, setFollow] = useState(false)
  const [trouble, setTrouble] = useState(false)
  const clip = useBench((s) => s.clip)
  const poses = useBench((s) => s.poses)
  const preview = useBench((s) => s.preview)
  const joints = useBench((s) => s.joints)
  const ghost = useBench((s) => s.ghost)
  const findings = useBench((s) => s.findings)
  const full = useFullPane() === FULL.stage

  useEffect(() => {
    const element = canvas.current!
    let stage: Stage
    try {
      stage = new Stage(element)
    } catch {
      setTrouble(true)
      return
    }
    stageRef.current = stage
    const toNow = () => stage.setFrame(transport.frame)
    const stop = watchPane(element, stage, toNow, () => stage.recolour())
    stage.overrides = overridesAt
    const stopDraft = draft.subscribe(() => stage.refresh())
    return () => {
      stop()
      stopDraft()
      stage.dispose()
      stageRef.current = null
    }
  }, [])

  const { trails, ghosts, span, apart, hold, hovered, guide, guidePoses } = useViewing()
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
      if (!hovered || !now || readoutUnit(hovered) !== undefined) return null
      const { joint, channel } = splitKey(hovered)
      const seen = (key: string) => draft.ahead.get(key) ?? have.get(key)
      const axis = channelAxis(now, joint, channel, seen, transport.frame)
      return { joint, axis, turns: turns(hovered), colour: axisOf(hovered) }
    })
  }, [hovered])

  useEffect(() => {
    stageRef.current?.setGuide(
      guide && guidePoses
        ? { clip: guide.doc, poses: guidePoses, offset: guide.offset, beside: guide.beside }
        : null,
    )
  }, [guide, guidePoses])

  useEffect(() => {
    const stage = stageRef.current
    if (!stage || !clip || !poses) return
    stage.setClip(clip)
    const previewed = preview?.whole?.poses
    stage.setPoses(previewed ?? poses, previewed && ghost ? poses : null)
    stage.setFrame(transport.frame)
  }, [clip, poses, preview, ghost])

  useEffect(() => {
    stageRef.current?.setSelected(joints)
  }, [joints])

  useEffect(() => {
    if (!clip || !findings) return
    const index = new Map(clip.joints.map((j, k) => [j.name, k]))
    const open = findings.filter((f) => !f.accepted && f.kind !== 'idle')
    stageRef.current?.setFindings((frame) => {
      const here = open.filter((f) => f.first - 1 <= frame && frame <= f.last + 1)
      return [...new Set(here.flatMap((f) => index.get(f.joint) ?? []))]
    })
  }, [clip, findings])

  const toggleFollow = () => {
    if (stageRef.current) stageRef.current.follow = !follow
    setFollow(!follow)
  }

  const pressed = useRef<[number, number]>([0, 0])
  return (
    <section
      aria-label="Stage"
      className="relative min-h-0 min-w-0 flex-1 overflow-hidden bg-gradient-to-b from-raised to-paper"
    >
      <canvas
        ref={canvas}
        data-testid="stage"
        className="absolute inset-0 size-full"
        onPointerDown={(e) => {
          pressed.current = [e.clientX, e.clientY]
        }}
        onClick={(e) => {
          const [x, y] = pressed.current
          if (Math.hypot(e.clientX - x, e.clientY - y) > 4) return
          const box = e.currentTarget.getBoundingClientRect()
          const joint = stageRef.current?.pick(e.clientX - box.left, e.clientY - box.top) ?? -1
          if (joint < 0) return
          const { joints: chosen } = useBench.getState()
          selectJoints(e.shiftKey ? [...new Set([...chosen, joint])] : [joint])
        }}
      />
      {trouble && (
        <p className="absolute inset-0 grid place-items-center p-6 text-center text-ink-2">
          This browser offers no WebGL, so the stage cannot be drawn. Curves, steps and delivery
          work without it.
        </p>
      )}
      {clip && (
        <p className="pointer-events-none absolute top-2 left-3 text-ink-2">
          {clip.skeleton} · {clip.joints.length} joints
          {preview?.whole && ghost && <span className="text-ink-3"> · preview over before</span>}
        </p>
      )}
      <div className="absolute top-2 right-3 flex gap-1.5">
        {(['front', 'side', 'top'] as View[]).map((view) => (
          <Button key={view} onClick={() => stageRef.current?.view(view)}>
            {view[0]!.toUpperCase() + view.slice(1)}
          </Button>
        ))}
        <Button onClick={() => stageRef.current?.fit()}>Frame figure</Button>
        <Toggle on={follow} onClick={toggleFollow} data-command="follow">
          Follow root
        </Toggle>
        <ShowMore />
        <Toggle on={ghost} onClick={() => useBench.setState({ ghost: !ghost })}>
          Before ghost
        </Toggle>
        <Toggle
          on={full}
          aria-label="Stage alone"
          onClick={() => toggleFull('stage')}
          className="px-1.5"
        >
          <Maximize2 size={12} />
        </Toggle>
      </div>
    </section>
  )
}
