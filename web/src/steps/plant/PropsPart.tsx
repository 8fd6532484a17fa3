/** Props: what hands hold and feet stand on, made, led and keyed. */
import { useState, useSyncExternalStore } from 'react'
import { selectChannels } from '../../actions/choose'
import {
  changeProp,
  isDense,
  keyProp,
  leadProp,
  makeProp,
  openProp,
  type Prop,
  propPlace,
  removeProp,
  SHAPES,
  thinProp,
} from '../../actions/props'
import { channelsOfProp } from '../../evaluation/owners'
import { Button, inputLook, NumberInput, Select, Tip } from '../../ui/controls'
import { useBench } from '../../view/bench'
import { transport } from '../../view/transport'
import { HandOver } from './HandOver'
import { PartnersPart } from './PartnersPart'

/** The names of the selected joints, two at most. */
function useLeaders(): string[] {
  const joints = useBench((s) => s.joints)
  const clip = useBench((s) => s.clip)
  return joints.slice(0, 2).map((j) => clip!.joints[j]!.name)
}

function PropEditor({ prop, index }: { prop: Prop; index: number }) {
  const clip = useBench((s) => s.clip)!
  useBench((s) => s.poses)
  useSyncExternalStore(transport.subscribe, () => transport.frame)
  const dense = useBench((s) => isDense(prop, s.curves))
  const leaders = useLeaders()
  const mm = clip.reading.metres_per_unit * 1000
  const place = propPlace(index)
  return (
    <fieldset
      aria-label={`Prop ${prop.name}`}
      className="flex min-w-0 flex-col gap-1.5 border-rule border-t px-2 pt-2 pb-2.5"
    >
      <div className="flex items-center gap-1.5">
        <input
          key={prop.name}
          aria-label="Name of the prop"
          className={`${inputLook} h-6 min-w-0 flex-1`}
          defaultValue={prop.name}
          onKeyDown={(e) => e.key === 'Enter' && e.currentTarget.blur()}
          onBlur={(e) => {
            const named = e.currentTarget.value.trim()
            if (named && named !== prop.name) void changeProp(prop, { new_name: named })
          }}
        />
        <Select
          label="Shape of the prop"
          value={prop.shape as keyof typeof SHAPES}
          options={SHAPES}
          onChange={(shape) => void changeProp(prop, { shape })}
        />
      </div>
      <div className="flex items-center justify-between gap-1 text-ink-2">
        size, mm
        {([0, 1, 2] as const).map((k) => (
          <NumberInput
            key={k}
            label={`Size, ${'xyz'[k]}`}
            className="w-[58px]"
            digits={1}
            value={prop.size[k]! * mm}
            onCommit={(v) => {
              const size = prop.size.map((s) => s * mm)
              size[k] = Math.max(0, v)
              void changeProp(prop, { size })
            }}
          />
        ))}
      </div>
      {place && (
        <div className="flex items-center justify-between gap-1 text-ink-2">
          <Tip text="Typed, it is keyed at now; a prop with a value on every frame is moved as a whole">
            <span className="whitespace-nowrap">at now, mm</span>
          </Tip>
          {([0, 1, 2] as const).map((k) => (
            <NumberInput
              key={k}
              label={`Place of the prop, ${'xyz'[k]}`}
              className="w-[58px]"
              digits={0}
              value={place[k]! * mm}
              onCommit={(v) => {
                const next = [...place]
                next[k] = v / mm
                void keyProp(clip, prop, next)
              }}
            />
          ))}
        </div>
      )}
      <div className="flex flex-wrap gap-1.5">
        <Tip
          text={
            leaders.length
              ? `It goes where ${leaders.join(' and ')} go, on every frame`
              : 'Select one or two joints that lead it'
          }
        >
          <Button disabled={!leaders.length} onClick={() => void leadProp(prop, leaders)}>
            Lead by {leaders.length === 2 ? 'the two joints' : 'the joint'}
          </Button>
        </Tip>
        <Button disabled={!place} onClick={() => place && void keyProp(clip, prop, place)}>
          Key at now
        </Button>
        <Tip text="Show its curves in the sheets">
          <Button onClick={() => selectChannels(channelsOfProp(prop.id))}>Curves</Button>
        </Tip>
        {dense && (
          <Tip text="It has a value on every frame: few keys in their place, within 1 mm and 0.25°">
            <Button onClick={() => void thinProp(prop)}>Thin to keys</Button>
          </Tip>
        )}
        <span className="flex-1" />
        <Button onClick={() => void removeProp(prop)}>Delete</Button>
      </div>
      <HandOver clip={clip} prop={prop} />
    </fieldset>
  )
}

export function PropsPart() {
  const clip = useBench((s) => s.clip)
  const props = clip?.props ?? []
  const chosen = useBench((s) => s.prop)
  const [shape, setShape] = useState<keyof typeof SHAPES>('box')
  const leaders = useLeaders()
  return (
    <section aria-label="Props" className="rounded-[4px] border border-rule-2">
      <div className="flex h-9 items-center gap-1.5 px-2">
        <h3 className="flex-1 font-semibold">Props</h3>
        <Select label="Shape of a new prop" value={shape} options={SHAPES} onChange={setShape} />
        <Tip
          text={
            leaders.length === 2
              ? `Between ${leaders.join(' and ')}, and led by them`
              : 'On the floor; with two joints selected, between them'
          }
        >
          <Button onClick={() => void makeProp(shape, leaders.length === 2 ? leaders : [])}>
            Make one
          </Button>
        </Tip>
      </div>
      {props.map((prop, k) => (
        <div key={prop.id}>
          <button
            type="button"
            aria-expanded={chosen === prop.id}
            className="flex h-7 w-full items-center gap-2 border-rule border-t px-2 text-left hover:bg-sunk"
            onClick={() => openProp(chosen === prop.id ? null : prop.id)}
          >
            <span className="flex-1 truncate">{prop.name}</span>
            <span className="text-ink-3">{prop.shape}</span>
          </button>
          {chosen === prop.id && <PropEditor prop={prop} index={k} />}
        </div>
      ))}
      {clip && <PartnersPart clip={clip} />}
    </section>
  )
}
