/** Keys by hand: set, select, type for one or many, what happens outside of them, scaling. */
import { useState } from 'react'
import { copySelected, paste } from '../../actions/clipboard'
import {
  channelsOf,
  commitEdits,
  commitSlide,
  editSelected,
  refit,
  STILL,
  setKeys,
  workedOn,
} from '../../actions/edits'
import { type ChannelKey, EXTENDS, type ExtendName } from '../../evaluation/curves'
import { alongChannels, atTheseTimes, inTheRange, invertKeys, selectAll } from '../../sheet/nudges'
import { scaled } from '../../sheet/tools/ScalingKeys'
import { Button, NumberInput, Select, Tip } from '../../ui/controls'
import { useBench } from '../../view/bench'
import { common, countKeys, useSelection } from '../../view/selection'
import { transport } from '../../view/transport'

export function KeysPart() {
  return (
    <>
      <SetPart />
      <SelectPart />
      <TypePart />
      <ScalePart />
      <FollowPart />
      <FitPart />
      <EndsPart />
    </>
  )
}

function Part({ title, children }: { title: string; children: React.ReactNode }) {
  return (
    <fieldset className="flex min-w-0 flex-col gap-1.5 border-rule border-b pb-3 last:border-b-0">
      <legend className="mb-1 font-semibold">{title}</legend>
      {children}
    </fieldset>
  )
}

const WHICH = {
  shown: 'on the shown channels',
  all: 'on the selected joints',
  turn: 'on their turns',
  move: 'on their moves',
  x: 'on their X channels',
  y: 'on their Y channels',
  z: 'on their Z channels',
} as const

function SetPart() {
  const [which, setWhich] = useState<keyof typeof WHICH>('shown')
  return (
    <Part title="Set a key now">
      <div className="flex gap-1.5">
        <Select
          label="Where to set keys"
          value={which}
          options={WHICH}
          onChange={setWhich}
          className="flex-1"
        />
        <Button onClick={() => setKeys(channelsOf(which))}>Set key</Button>
      </div>
    </Part>
  )
}

function SelectPart() {
  const chosen = countKeys(useSelection((s) => s.keys)) > 0
  return (
    <Part title="Select">
      <div className="flex flex-wrap gap-1.5">
        <Button onClick={selectAll}>All</Button>
        <Button onClick={invertKeys}>Invert</Button>
        <Button onClick={alongChannels}>Along channels</Button>
        <Button onClick={atTheseTimes}>At these times</Button>
        <Button onClick={inTheRange}>In the range</Button>
        <Button disabled={!chosen} onClick={() => void copySelected()}>
          Copy
        </Button>
        <Button onClick={paste}>Paste at now</Button>
      </div>
    </Part>
  )
}

const HOW = { 'set to': 'set to', add: 'add', 'multiply by': 'multiply by' } as const
type How = keyof typeof HOW

function TypePart() {
  const count = countKeys(useSelection((s) => s.keys))
  const [what, setWhat] = useState<'value' | 'time'>('value')
  const [how, setHow] = useState<How>('set to')
  const [amount, setAmount] = useState(0)
  const run = () => {
    const became = (old: number) =>
      how === 'set to' ? amount : how === 'add' ? old + amount : old * amount
    void commitEdits(
      editSelected((curve, k) =>
        what === 'value'
          ? { value: became(curve.value[k]!) }
          : { time: Math.max(became(curve.time[k]!), 0) },
      ),
    )
  }
  return (
    <Part title={`Type for selected keys (${count})`}>
      <div className="flex gap-1.5">
        <Select
          label="What to type"
          value={what}
          options={{ value: 'value', time: 'frame' }}
          onChange={setWhat}
        />
        <Select
          label="How to change it"
          value={how}
          options={HOW}
          onChange={setHow}
          className="flex-1"
        />
        <NumberInput label="Amount to type" value={amount} onCommit={setAmount} className="w-14" />
        <Button disabled={!count} onClick={run}>
          Set
        </Button>
      </div>
    </Part>
  )
}

function ScalePart() {
  const keys = useSelection((s) => s.keys)
  const pivot = useSelection((s) => s.pivot)
  const curves = useBench((s) => s.curves)
  const [time, setTime] = useState(100)
  const [value, setValue] = useState(100)
  const count = countKeys(keys)
  const span = () => {
    const at: number[] = []
    editSelected((curve, k) => {
      at.push(curve.time[k]!)
      return null
    })
    return [Math.min(...at), Math.max(...at)] as const
  }
  const about = (next: Partial<typeof pivot>) =>
    useSelection.setState({ pivot: { ...pivot, ...next } })
  const mean = common(curves, keys)
  const run = () => {
    const [first] = span()
    const edits = scaled(
      { time: Math.max(time / 100, 0.02), value: value / 100 },
      { time: pivot.time ?? first, value: pivot.value ?? mean.value ?? 0 },
      true,
    )
    void commitEdits(edits)
  }
  return (
    <Part title="Scale">
      <div className="flex flex-wrap items-center gap-1.5 text-ink-2">
        about
        <Button disabled={!count} onClick={() => about({ time: transport.frame })}>
          now
        </Button>
        <Button disabled={!count} onClick={() => about({ time: span()[0] })}>
          first
        </Button>
        <Button disabled={!count} onClick={() => about({ time: span()[1] })}>
          last
        </Button>
        <label className="flex items-center gap-1.5">
          value
          <NumberInput
            label="Value to scale about"
            value={pivot.value}
            placeholder="side"
            className="w-14"
            onCommit={(v) => about({ value: v })}
          />
        </label>
        <Button
          disabled={pivot.time === null && pivot.value === null}
          onClick={() => about({ time: null, value: null })}
        >
          opposite side
        </Button>
      </div>
      <div className="flex items-center gap-1.5 text-ink-2">
        time
        <NumberInput label="Scale time, percent" value={time} onCommit={setTime} className="w-11" />
        %<span className="ml-1">value</span>
        <NumberInput
          label="Scale value, percent"
          value={value}
          onCommit={setValue}
          className="w-11"
        />
        %
        <Button className="ml-auto" disabled={!count} onClick={run}>
          Scale
        </Button>
      </div>
    </Part>
  )
}

/** What is loose follows late and overshoots: a run of keys offset, and flipped to the other side. */
function FollowPart() {
  const keys = useSelection((s) => s.keys)
  const [frames, setFrames] = useState(4)
  const count = countKeys(keys)
  const flip = () => {
    const at: number[] = []
    editSelected((curve, k) => {
      at.push(curve.time[k]!)
      return null
    })
    void commitEdits(scaled({ time: 1, value: -1 }, { time: Math.min(...at), value: 0 }, true))
  }
  return (
    <Part title="Offset">
      <div className="flex items-center gap-1.5 text-ink-2">
        later by
        <NumberInput
          label="Shift the selected keys, frames"
          value={frames}
          digits={0}
          onCommit={(v) => setFrames(Math.round(v))}
          className="w-11"
        />
        frames
        <Button
          className="ml-auto"
          disabled={!count}
          onClick={() => commitSlide({ ...STILL, by: frames })}
        >
          Shift
        </Button>
        <Tip text="To the other side of 0, as far">
          <Button disabled={!count} onClick={flip}>
            Flip
          </Button>
        </Tip>
      </div>
    </Part>
  )
}

const ENDS: Record<ExtendName, string> = {
  hold: 'holds',
  straight: 'goes straight on',
  repeat: 'repeats',
  repeat_offset: 'repeats, going on',
}

function FitPart() {
  const chosen = countKeys(useSelection((s) => s.keys)) > 0
  return (
    <Part title="Fit handles again">
      <p className="text-[12px] text-ink-3">
        Keys stay where they are; the curves between them follow what was thinned, as well as these
        keys can.
      </p>
      <Button onClick={() => void refit()}>
        {chosen ? 'Of the selected keys' : 'Of all keys shown'}
      </Button>
    </Part>
  )
}

function EndsPart() {
  const curves = useBench((s) => s.curves)
  useBench((s) => s.joints)
  useBench((s) => s.channels)
  const shown = workedOn().filter((key) => curves.get(key)?.kind === 'keyed')
  const value = (end: 0 | 1): ExtendName | '' => {
    const kinds = new Set(
      shown.map((key) => {
        const curve = curves.get(key)
        return curve?.kind === 'keyed' ? curve.extend[end]! : 0
      }),
    )
    return kinds.size === 1 ? EXTENDS[[...kinds][0]!]! : ''
  }
  const set = (end: 'before' | 'after', kind: ExtendName) => {
    const ends = new Map(shown.map((key): [ChannelKey, object] => [key, { [end]: kind }]))
    void commitEdits(new Map(), ends)
  }
  return (
    <Part title="Outside the keys">
      {(['before', 'after'] as const).map((end, k) => (
        <label key={end} className="flex items-center justify-between gap-2 text-ink-2">
          {end === 'before' ? 'before the first' : 'after the last'}
          <Select
            label={end === 'before' ? 'Before the first key' : 'After the last key'}
            value={value(k as 0 | 1)}
            options={ENDS}
            disabled={!shown.length}
            onChange={(kind) => set(end, kind)}
            className="w-40"
          />
        </label>
      ))}
    </Part>
  )
}
