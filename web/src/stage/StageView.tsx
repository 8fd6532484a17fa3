/** The stage as a pane: canvas, what is shown, view buttons. */
import { Maximize2 } from 'lucide-react'
import { useEffect, useRef, useState } from 'react'
import { FULL, toggleFull, useFullPane } from '../bench/fullPane'
import { selectJoints, useBench } from '../clip/bench'
import { transport } from '../clip/transport'
import { Button, Toggle } from '../ui/controls'
import { watchPane } from '../ui/pane'
import { Stage, type View } from './Stage'

/** The one stage of the bench, for commands. */
export const stageRef: { current: Stage | null } = { current: null }

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
    return () => {
      stop()
      stage.dispose()
      stageRef.current = null
    }
  }, [])

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
