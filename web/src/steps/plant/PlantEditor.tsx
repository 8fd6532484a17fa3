/** One plant: when, where and how it holds, and its part's way seen from above and from the side. */
import { useQuery } from '@tanstack/react-query'
import { changePlant, freePlant, heldWith } from '../../actions/plants'
import { answer, client } from '../../api/client'
import type { Plant } from '../../evaluation/model'
import { stageRef } from '../../stage/refs'
import { Button, Check, NumberInput, Select, Slider } from '../../ui/controls'
import { useBench } from '../../view/bench'
import { FootPath } from './FootPath'

const EASES = {
  settle: 'settle',
  linear: 'linear',
  ease: 'ease',
  'ease-in': 'ease in',
  'ease-out': 'ease out',
  'ease-in-out': 'ease in and out',
}

const RULES = {
  '': 'as it is set',
  stance: 'the stand’s middle',
  'set down': 'where it was set down',
  mean: 'the mean',
  'first frame': 'the first frame',
  slowest: 'where it is slowest',
}

const EASE_HINTS: Record<string, string> = {
  settle: 'Settle: quickly into the place, gently at its end, as weight comes onto a foot',
}

const RULE_HINTS: Record<string, string> = {
  stance: 'The middle of where it stands longest: what comes and goes counts for nothing',
  'set down': 'Where the part was when its contact began',
  mean: 'The mean of all frames of the plant',
  slowest: 'Where the part was at the frame on which it moved least',
}

function Line({ name, children }: { name: string; children: React.ReactNode }) {
  return (
    <div className="flex min-h-6 items-center justify-between gap-2 text-ink-2">
      <span>{name}</span>
      <span className="flex items-center gap-1">{children}</span>
    </div>
  )
}

function Share({
  name,
  value,
  onSet,
}: {
  name: string
  value: number
  onSet: (v: number) => void
}) {
  return (
    <Slider
      key={value}
      label={name}
      shown={`${Math.round(100 * value)} %`}
      min={0}
      max={1}
      step={0.05}
      defaultValue={[value]}
      onValueCommit={([v]) => onSet(v!)}
      typed={onSet}
    />
  )
}

export function PlantEditor({ plant }: { plant: Plant }) {
  const clip = useBench((s) => s.clip)!
  const change = (what: Parameters<typeof changePlant>[1]) => void changePlant(plant, what)
  const first = Math.max(0, plant.first - 2 * plant.ease_in)
  const last = Math.min(clip.frames - 1, plant.last + 2 * plant.ease_out)
  const query = { revision: clip.head.id, part: plant.part, first, last }
  const { data } = useQuery({
    queryKey: ['plant-path', clip.id, query],
    queryFn: () =>
      answer(
        client.GET('/api/clips/{clip_id}/plants/path', {
          params: { path: { clip_id: clip.id }, query },
        }),
      ),
  })
  const carriers = Object.fromEntries([
    ['', 'nothing: in the world'],
    ...clip.props.map((p) => [`prop:${p.name}`, `${p.name} (prop)`]),
    ...clip.joints.map((j) => [`joint:${j.name}`, j.name]),
  ])
  const inWorld = !plant.with_joint && !plant.with_prop
  const topped = clip.props.filter((p) => p.shape === 'box' || p.shape === 'cylinder')
  const leg = !plant.part.endsWith('hand')
  const scale = clip.reading.metres_per_unit * 1000
  return (
    <fieldset
      aria-label={`Plant of ${plant.part}`}
      className="flex min-w-0 flex-col gap-2 rounded-[4px] border border-rule-2 p-2.5"
    >
      <p className="flex items-center gap-2">
        <b className="flex-1 truncate">{plant.part}</b>
        <span className="text-ink-3">{heldWith(plant)}</span>
      </p>
      <Line name="Holds from">
        <NumberInput
          label="First frame it holds"
          value={plant.first}
          onCommit={(v) => change({ new_first: Math.max(0, Math.round(v)) })}
        />
        to
        <NumberInput
          label="Last frame it holds"
          value={plant.last}
          onCommit={(v) => change({ new_last: Math.max(0, Math.round(v)) })}
        />
      </Line>
      <Line name="Eases over">
        <NumberInput
          className="w-12"
          label="Frames over which it comes"
          value={plant.ease_in}
          onCommit={(v) => change({ ease_in: Math.max(0, Math.round(v)) })}
        />
        <NumberInput
          className="w-12"
          label="Frames over which it goes"
          value={plant.ease_out}
          onCommit={(v) => change({ ease_out: Math.max(0, Math.round(v)) })}
        />
        <span className="w-10 text-ink-3">frames</span>
      </Line>
      <Line name="How">
        <Select
          label="How it comes and goes"
          value={plant.ease as keyof typeof EASES}
          options={EASES}
          hints={EASE_HINTS}
          onChange={(ease) => change({ ease })}
        />
      </Line>
      <Line name={inWorld ? 'Place, mm' : 'On it, mm'}>
        {([0, 1, 2] as const).map((k) => (
          <NumberInput
            key={k}
            label={`Place, ${'xyz'[k]}`}
            className="w-[64px]"
            digits={1}
            value={plant.place[k]! * scale}
            onCommit={(v) => {
              const place = [...plant.place]
              place[k] = v / scale
              change({ place })
            }}
          />
        ))}
      </Line>
      <Line name="Chosen by">
        <Select
          label="What says where it is"
          value=""
          options={RULES}
          hints={RULE_HINTS}
          onChange={(rule) => rule && change({ rule, on_floor: leg && inWorld })}
        />
      </Line>
      {leg && inWorld && topped.length > 0 && (
        <Line name="Stand on">
          {topped.map((p) => (
            <Button key={p.id} onClick={() => change({ stand_on: p.name })}>
              {p.name}
            </Button>
          ))}
        </Line>
      )}
      <Line name="Held with">
        <Select
          label="What it is held with"
          className="w-44"
          value={
            plant.with_prop
              ? `prop:${plant.with_prop}`
              : plant.with_joint && `joint:${plant.with_joint}`
          }
          options={carriers}
          onChange={(carrier) => {
            const name = carrier.slice(carrier.indexOf(':') + 1)
            change({
              with_prop: carrier.startsWith('prop:') ? name : '',
              with_joint: carrier.startsWith('joint:') ? name : '',
            })
          }}
        />
      </Line>
      <Check on={plant.turn !== null} onChange={(hold_turn) => change({ hold_turn })}>
        Hold how it is turned
      </Check>
      <Share name="Strength" value={plant.strength} onSet={(strength) => change({ strength })} />
      {leg && (
        <Share name="Hips go down for it" value={plant.hips} onSet={(hips) => change({ hips })} />
      )}
      <div className="flex gap-1.5">
        <Button onClick={() => change({ muted: !plant.muted })}>
          {plant.muted ? 'Unmute' : 'Mute'}
        </Button>
        <Button onClick={() => freePlant(plant)}>Free</Button>
        <span className="flex-1" />
        <Button onClick={() => stageRef.current?.lookAtPlant(plant)}>Look there</Button>
      </div>
      {data && <FootPath path={data} plant={plant} clip={clip} />}
    </fieldset>
  )
}
