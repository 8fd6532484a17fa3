/** Poses by hand, in numbers: values of the picked joint, turns of all picked ones, copies, keys. */
import { useEffect, useReducer, useState, useSyncExternalStore } from 'react'
import { copyPose, keyPart, pastePose } from '../../actions/poseKeys'
import {
  commitPose,
  mayPose,
  ofValues,
  onLive,
  setAuto,
  usePosing,
  valueNow,
} from '../../actions/posing'
import { channelKey, channelTitle } from '../../evaluation/curves'
import { lengthUnit } from '../../sheet/names'
import { AXES } from '../../stage/Gizmo'
import { PoseChoices } from '../../stage/PoseBar'
import { handRef } from '../../stage/refs'
import { Button, Check, NumberInput, Select } from '../../ui/controls'
import { useBench } from '../../view/bench'
import { draft } from '../../view/draft'
import { useLayers } from '../../view/layerChoice'
import { transport } from '../../view/transport'
import { LayerKeys } from './LayerKeys'

/** Rendered anew while a pose is dragged. */
function useLive(): void {
  const [, again] = useReducer((n: number) => n + 1, 0)
  useEffect(() => {
    const stops = [onLive(again), draft.subscribe(again)]
    return () => {
      for (const stop of stops) stop()
    }
  }, [])
}

function Values({ joint }: { joint: number }) {
  const clip = useBench((s) => s.clip)!
  useBench((s) => s.curves)
  usePosing((s) => s.unkeyed)
  useSyncExternalStore(transport.subscribe, () => transport.frame)
  useLive()
  const { name, channels } = clip.joints[joint]!
  return (
    <div className="flex flex-col gap-1" data-testid="pose-values">
      <span className="font-semibold">{name}</span>
      {channels.map((channel) => {
        const key = channelKey(joint, channel)
        const value = valueNow(key)
        return (
          <label key={channel} className="flex items-center justify-between gap-2 text-ink-2">
            {channelTitle(channel)}
            <span className="flex items-center gap-1.5">
              <NumberInput
                label={`${name} ${channelTitle(channel)}`}
                value={value ?? null}
                digits={3}
                className="w-24"
                onCommit={(typed) => {
                  if (mayPose()) commitPose(ofValues(new Map([[key, typed]])))
                }}
              />
              <span className="w-6">
                {channel[0] === 'r' ? '°' : lengthUnit(clip.reading.metres_per_unit)}
              </span>
            </span>
          </label>
        )
      })}
    </div>
  )
}

/** Where a pulled end is, in the world or as the figure's hips see it, to read and to type. */
function EndPlace({ joint }: { joint: number }) {
  const clip = useBench((s) => s.clip)!
  useBench((s) => s.poses)
  const axes = usePosing((s) => s.axes)
  const unkeyed = usePosing((s) => s.unkeyed)
  const frame = useSyncExternalStore(transport.subscribe, () => transport.frame)
  useLive()
  const [place, setPlace] = useState<[number, number, number] | null>(null)
  // The stage has to stand as all this says before it is asked.
  useEffect(() => {
    const asked = requestAnimationFrame(() => {
      const now = handRef.current?.endPlace(joint) ?? null
      const moved = (was: typeof now) => !was || now?.some((v, k) => Math.abs(v - was[k]!) > 1e-6)
      setPlace((was) => (moved(was) ? now : was))
    })
    return () => cancelAnimationFrame(asked)
  })
  const cm = clip.reading.metres_per_unit * 100
  if (!place) return null
  return (
    <div
      className="flex items-center justify-between gap-1 text-ink-2"
      data-frame={frame}
      data-kept={unkeyed === null}
    >
      place
      {AXES.map((axis, k) => (
        <span key={axis} className="flex items-center gap-1">
          <b className="num" style={{ color: `var(--${axis})` }}>
            {axis.toUpperCase()}
          </b>
          <NumberInput
            label={`Place of the end, ${axis.toUpperCase()}`}
            value={place[k]! * cm}
            digits={1}
            className="w-14"
            onCommit={(typed) => {
              const next = [...place] as typeof place
              next[k] = typed / cm
              handRef.current?.pullTo(next)
            }}
          />
        </span>
      ))}
      cm{axes === 'world' ? '' : ' from the hips'}
    </div>
  )
}

export function PosePart() {
  const joints = useBench((s) => s.joints)
  const body = useBench((s) => s.body)
  const { mode, auto } = usePosing()
  const [group, setGroup] = useState('')
  const clip = useBench((s) => s.clip)
  const layer = useLayers((s) => clip?.layers.find((x) => x.id === s.chosen))
  const groups = Object.keys({ ...body?.groups, ...body?.own_groups })
  return (
    <section aria-label="Pose by hand" className="flex flex-col gap-2.5 border-rule border-b pb-3">
      <Check on={auto} onChange={setAuto}>
        Auto key: set keys as a change is let go of
      </Check>
      {joints.length === 0 ? (
        <p className="text-ink-2">Pick a joint on the stage or in the list to pose it.</p>
      ) : (
        <>
          {layer ? <LayerKeys {...{ layer, clip: clip! }} /> : <Values joint={joints[0]!} />}
          {mode === 'pull' && <EndPlace joint={joints[0]!} />}
          <div className="flex flex-wrap items-center gap-1 [&_button]:px-1.5">
            <PoseChoices />
          </div>
          <div
            className="flex items-center justify-between gap-1 text-ink-2"
            title={`All ${joints.length} selected joints, each about itself`}
          >
            {mode} by
            {AXES.map((axis) => (
              <span key={axis} className="flex items-center gap-1">
                <b className="num" style={{ color: `var(--${axis})` }}>
                  {axis.toUpperCase()}
                </b>
                <NumberInput
                  label={`${mode} by, ${axis.toUpperCase()}`}
                  value={0}
                  className="w-12"
                  onCommit={(amount) =>
                    handRef.current?.step(axis, mode === 'turn' ? amount : amount / 100)
                  }
                />
              </span>
            ))}
            {mode === 'turn' ? '°' : 'cm'}
          </div>
        </>
      )}
      <div className="flex flex-wrap gap-1">
        <Button disabled={!joints.length} onClick={copyPose}>
          Copy pose
        </Button>
        <Button onClick={() => void pastePose(false)}>Paste</Button>
        <Button onClick={() => void pastePose(true)}>Paste mirrored</Button>
      </div>
      <div className="flex items-center gap-1">
        <Select
          label="Part of the body to key"
          value={group}
          options={{
            '': 'selected joints',
            ...Object.fromEntries(groups.map((name) => [name, name])),
          }}
          onChange={setGroup}
          className="min-w-0 flex-1"
        />
        <Button onClick={() => void keyPart(group || null)}>Key the pose</Button>
      </div>
    </section>
  )
}
