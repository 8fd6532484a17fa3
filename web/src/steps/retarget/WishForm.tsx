/** What is wished of retargeting: rest, root, ends. */
import type { Schemas } from '../../api/client'
import { PLAIN, type Turn, useRetargeting, type Wishes, wish } from '../../sync/retargeting'
import { Button, Check, Choice, NumberInput, Select, Slider } from '../../ui/controls'
import { useBench } from '../../view/bench'

const percent = (share: number) => `${Math.round(100 * share)} %`

function Share({ label, name }: { label: string; name: 'feet' | 'hands' | 'clavicles' }) {
  const value = useRetargeting((s) => s.wishes[name])
  return (
    <Slider
      label={label}
      shown={percent(value)}
      min={0}
      max={1}
      step={0.05}
      value={[value]}
      onValueChange={([v]) => wish({ [name]: v! })}
      typed={(v) => wish({ [name]: v })}
    />
  )
}

const AXES = ['left', 'up', 'forward'] as const

/** A joint of the other figure turned at rest, where the two rests do not agree. */
function Rest({ map }: { map: Schemas['MapOut'] }) {
  const joint = useRetargeting((s) => s.joint)
  const rest = useRetargeting((s) => s.wishes.rest)
  const turned = Object.keys(rest)
  const shown = joint ?? turned[0] ?? map.target.names[0] ?? ''
  const turn: Turn = rest[shown] ?? [0, 0, 0]
  const set = (k: number, value: number) => {
    const next: Turn = [...turn]
    next[k] = Math.max(-360, Math.min(360, value))
    const { [shown]: _, ...others } = rest
    wish({ rest: next.every((v) => v === 0) ? others : { ...others, [shown]: next } })
  }
  return (
    <section aria-label="Rest poses" className="flex flex-col gap-1.5">
      <h3 className="font-semibold">Rest</h3>
      <p className="text-ink-2">
        {map.source.is_pose && map.target.is_pose
          ? 'Both rests are poses of a body: they are made to agree limb by limb.'
          : 'One of the rests is no pose of a body: name a frame that is to be taken for it.'}
      </p>
      {!map.source.is_pose && <RestFrame />}
      <Choice
        label="Turn by hand at rest"
        value={shown}
        options={Object.fromEntries(
          map.target.names.map((n) => [n, n in rest ? `${n} (turned)` : n]),
        )}
        onChange={(name) => useRetargeting.setState({ joint: name })}
      />
      <div className="grid grid-cols-3 gap-2 text-ink-2">
        {AXES.map((axis, k) => (
          <span key={axis} className="flex flex-col gap-0.5">
            about {axis}, °
            <NumberInput
              label={`Turn of ${shown} about ${axis}, degrees`}
              value={turn[k]!}
              digits={1}
              className="w-full"
              onCommit={(v) => set(k, v)}
            />
          </span>
        ))}
      </div>
      {turned.length > 0 && (
        <Button onClick={() => wish({ rest: {} })}>Rest as it was found</Button>
      )}
    </section>
  )
}

/** Relative to what a hand is told: there it is where it was, in proportion. */
function Space({ end }: { end: 'left hand' | 'right hand' }) {
  const spaces = useRetargeting((s) => s.wishes.spaces)
  const props = useBench((s) => s.clip?.props) ?? []
  const named = ['world', 'chest', 'head', 'hips'].map((n) => [n, `relative to the ${n}`])
  const { [end]: own = '', ...others } = spaces
  return (
    <div className="flex items-center justify-between gap-2 text-ink-2">
      {end === 'left hand' ? 'Left hand' : 'Right hand'}
      <Select
        label={`Relative to what the ${end} is told`}
        value={own}
        options={{
          '': 'as its arm is retargeted',
          ...Object.fromEntries(named),
          ...Object.fromEntries(props.map((p) => [p.name, `relative to ${p.name} (prop)`])),
        }}
        onChange={(space) => wish({ spaces: space ? { ...others, [end]: space } : others })}
      />
    </div>
  )
}

function RestFrame() {
  const frame = useRetargeting((s) => s.wishes.rest_frame)
  return (
    <div className="flex items-center gap-2 text-ink-2">
      Frame that is its rest
      <NumberInput
        label="Frame that is taken for the rest"
        value={frame}
        digits={0}
        placeholder="none"
        onCommit={(v) => wish({ rest_frame: Math.max(0, Math.round(v)) })}
      />
    </div>
  )
}

export function WishForm({ map }: { map: Schemas['MapOut'] }) {
  const wishes = useRetargeting((s) => s.wishes)
  const keyed =
    useRetargeting((s) => (s.preview?.report.keys_kept ?? 0) > 0) || wishes.keys !== PLAIN.keys
  return (
    <>
      <Rest map={map} />
      <section aria-label="Root" className="flex flex-col gap-1.5">
        <h3 className="font-semibold">Root</h3>
        <Choice
          label="Goes over the floor"
          value={wishes.travel}
          options={{
            'by stride': 'as far as its legs are long',
            'as it was': 'as far as it went',
            'by a factor': 'so many times as far',
          }}
          onChange={(travel) => wish({ travel: travel as Wishes['travel'] })}
        />
        {wishes.travel === 'by a factor' && (
          <div className="flex items-center gap-2 text-ink-2">
            Times as far
            <NumberInput
              label="Times as far"
              value={wishes.factor}
              onCommit={(factor) => wish({ factor: Math.max(0, Math.min(100, factor)) })}
            />
          </div>
        )}
      </section>
      <section aria-label="Ends" className="flex flex-col gap-2">
        <h3 className="font-semibold">Ends</h3>
        <Share label="Feet to where they were, in proportion" name="feet" />
        <Share label="Hands to what they hold and touch" name="hands" />
        <div className="flex items-center justify-between gap-2 text-ink-2">
          Its things are so many times as large
          <NumberInput
            label="Its things are so many times as large"
            value={wishes.thing}
            onCommit={(thing) => wish({ thing: Math.max(0.05, Math.min(20, thing)) })}
          />
        </div>
        {(['left hand', 'right hand'] as const).map((end) => (
          <Space key={end} end={end} />
        ))}
        <Share label="Collar bones turn along" name="clavicles" />
        {keyed && (
          <>
            <Choice
              label="Keys"
              value={wishes.keys}
              options={{
                'as the source has them': 'where this clip has them',
                'on every frame': 'on every frame',
              }}
              onChange={(keys) => wish({ keys: keys as Wishes['keys'] })}
            />
            {wishes.keys === 'as the source has them' && (
              <div className="flex items-center justify-between gap-2 text-ink-2">
                More where it lies farther off than, °
                <NumberInput
                  label="More keys where it lies farther off than, degrees"
                  value={wishes.tolerance_deg}
                  onCommit={(v) => wish({ tolerance_deg: Math.max(0.01, Math.min(45, v)) })}
                />
              </div>
            )}
          </>
        )}
        <Check on={wishes.plant} onChange={(plant) => wish({ plant })}>
          Hold feet where they stand, by plants
        </Check>
      </section>
    </>
  )
}
