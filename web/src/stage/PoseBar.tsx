/** Posing on the stage: how the gizmo works, and above it what has been changed and is not keyed. */
import { useEffect, useState, useSyncExternalStore } from 'react'
import { setStep } from '../actions/choose'
import {
  denseOf,
  keyPose,
  offsetSoftly,
  ownerOfUnkeyed,
  putBack,
  setAuto,
  type Unkeyed,
  usePosing,
} from '../actions/posing'
import { jointsOf } from '../evaluation/owners'
import { Button, NumberInput, Toggle } from '../ui/controls'
import { counted } from '../ui/numbers'
import { useBench } from '../view/bench'
import { transport } from '../view/transport'
import type { PosingHand } from './PosingHand'

/** Turn or move, about whose axes: wherever poses are made. */
export function PoseChoices() {
  const { mode, axes } = usePosing()
  const set = usePosing.setState
  return (
    <>
      <fieldset className="flex gap-1" aria-label="What is done to a joint">
        <Toggle on={mode === 'turn'} onClick={() => set({ mode: 'turn' })}>
          Turn
        </Toggle>
        <Toggle on={mode === 'move'} onClick={() => set({ mode: 'move' })}>
          Move
        </Toggle>
        <Toggle
          on={mode === 'pull'}
          title="Pull an end: its limb follows, a knee or an elbow swings about its limb"
          onClick={() => set({ mode: 'pull' })}
        >
          Pull
        </Toggle>
      </fieldset>
      <fieldset className="ml-auto flex gap-1" aria-label="About whose axes">
        <Toggle on={axes === 'local'} onClick={() => set({ axes: 'local' })}>
          {mode === 'pull' ? 'Figure' : 'Own axes'}
        </Toggle>
        <Toggle on={axes === 'world'} onClick={() => set({ axes: 'world' })}>
          World
        </Toggle>
      </fieldset>
    </>
  )
}

/** How much of a pulled end's way the body goes along. */
function BodyShare() {
  const { mode, body } = usePosing()
  if (mode !== 'pull') return null
  return (
    <label className="ml-1.5 flex items-center gap-1.5 rounded-[3px] bg-raised px-1.5 text-ink-2">
      limb
      <input
        type="range"
        aria-label="How much of the way the body goes along"
        className="w-20 accent-[var(--calm)]"
        min={0}
        max={1}
        step={0.05}
        value={body}
        onChange={(e) => usePosing.setState({ body: Number(e.target.value) })}
      />
      body
    </label>
  )
}

export function PoseBar({ hand }: { hand: PosingHand | null }) {
  const auto = usePosing((s) => s.auto)
  const joints = useBench((s) => s.joints.length)
  const [said, setSaid] = useState('')
  useEffect(() => {
    if (hand) hand.onReadout = setSaid
  }, [hand])
  return (
    <div className="flex items-center gap-1.5">
      <PoseChoices />
      <BodyShare />
      <Toggle
        on={auto}
        className="ml-1.5"
        title="Set a key as soon as a change is let go of"
        onClick={() => setAuto(!auto)}
      >
        Auto key
      </Toggle>
      <span className="num ml-1.5 text-ink" data-testid="posing-readout">
        {said || (joints ? '' : 'Pick a joint to pose it')}
      </span>
    </div>
  )
}

/** An unkeyed change: said over the stage until it is keyed, led to softly or put back. */
export function UnkeyedBar({ unkeyed }: { unkeyed: Unkeyed }) {
  const frame = useSyncExternalStore(transport.subscribe, () => transport.frame)
  const saving = useBench((s) => s.saving)
  const radius = usePosing((s) => s.radius)
  // Thinning makes keyed channels of dense ones: asked for anew with each state.
  useBench((s) => s.curves)
  const joints = new Set([...jointsOf(unkeyed.values.keys()), ...unkeyed.by.keys()]).size
  const dense = denseOf(unkeyed.values).length
  const all = dense > 0 && dense === unkeyed.values.size
  return (
    <section
      aria-label="Unkeyed change"
      className="ml-auto flex flex-wrap items-center gap-1.5 rounded-[4px] border-2 border-signal bg-raised px-2 py-1"
    >
      <b role="status">
        Not keyed: {joints} {joints === 1 ? 'joint' : 'joints'} at frame {unkeyed.frame}
        {unkeyed.layer !== null && ` on ${ownerOfUnkeyed(unkeyed)}`}
      </b>
      {frame !== unkeyed.frame && (
        <Button
          onClick={() => {
            transport.pause()
            transport.seek(unkeyed.frame)
          }}
        >
          Go there
        </Button>
      )}
      {dense > 0 && (
        <span className="text-ink-2">
          {all
            ? 'A value on every frame here.'
            : `${counted(dense, 'channel')} with a value on every frame.`}
        </span>
      )}
      {dense > 0 && (
        <>
          <Button onClick={() => setStep('thin')}>Thin first</Button>
          <Button
            disabled={saving}
            kind={all ? 'primary' : 'plain'}
            onClick={() => void offsetSoftly()}
          >
            Soft offset
          </Button>
          <label className="flex items-center gap-1 text-ink-2">
            ±
            <NumberInput
              label="Frames over which the offset dies out"
              value={radius}
              className="w-12"
              onCommit={(v) => usePosing.setState({ radius: Math.max(Math.round(v), 2) })}
            />
            frames
          </label>
        </>
      )}
      {!all && (
        <Button kind="primary" disabled={saving} onClick={() => void keyPose()}>
          Set keys
        </Button>
      )}
      <Button onClick={putBack}>Put back</Button>
    </section>
  )
}
