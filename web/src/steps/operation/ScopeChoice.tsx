/** What an operation may touch: which joints, and when. */
import { useSyncExternalStore } from 'react'
import { type Scope, useBench } from '../../clip/bench'
import { handScope } from '../../clip/edits'
import { transport } from '../../clip/transport'
import { inputLook } from '../../ui/controls'

/** As chosen in the panel; turned into a scope when asked for, since the selection moves. */
export interface ScopeChosen {
  joints: string
  time: 'all' | 'range'
}

export const EVERYTHING: ScopeChosen = { joints: 'all', time: 'all' }

const SHOWN = 'shown channels'
const KEYS = 'selected keys'
/** Where hand work begins: picked keys, else the channels that are shown. */
export const BY_HAND: ScopeChosen = { joints: SHOWN, time: 'all' }

export function scopeOf(choice: ScopeChosen): Scope {
  const { clip, joints, body } = useBench.getState()
  const scope: Scope = {}
  if (choice.joints === SHOWN) Object.assign(scope, handScope(new Map()))
  else if (choice.joints === KEYS) Object.assign(scope, handScope())
  else if (choice.joints === 'selected' && clip)
    scope.joints = joints.map((j) => clip.joints[j]!.name)
  else if (body && choice.joints in body.own_groups && clip)
    scope.joints = body.own_groups[choice.joints]!.map((j) => clip.joints[j]!.name)
  else if (choice.joints !== 'all') scope.groups = [choice.joints]
  if (choice.time === 'range') scope.frames = [...transport.range]
  return scope
}

const rangeText = () => transport.range.join(' – ')

export function ScopeChoice({
  value,
  ranged,
  keyed,
  byHand,
  onChange,
}: {
  value: ScopeChosen
  ranged: boolean
  /** Whether single keys can be meant. */
  keyed: boolean
  byHand: boolean
  onChange: (value: ScopeChosen) => void
}) {
  const body = useBench((s) => s.body)
  const count = useBench((s) => s.joints.length)
  const range = useSyncExternalStore(transport.subscribe, rangeText)
  return (
    <div className="flex gap-1.5">
      <select
        aria-label="Which joints"
        className={`${inputLook} h-6 flex-1`}
        value={value.joints}
        onChange={(e) => onChange({ ...value, joints: e.target.value })}
      >
        {byHand && <option value={SHOWN}>shown channels</option>}
        {byHand && keyed && <option value={KEYS}>selected keys</option>}
        <option value="all">whole body</option>
        <option value="selected">
          {count === 1 ? 'the selected joint' : `${count} selected joints`}
        </option>
        {Object.keys({ ...body?.groups, ...body?.own_groups }).map((g) => (
          <option key={g}>{g}</option>
        ))}
      </select>
      {ranged && (
        <select
          aria-label="Which frames"
          className={`${inputLook} num h-6 flex-1`}
          value={value.time}
          onChange={(e) => onChange({ ...value, time: e.target.value as ScopeChosen['time'] })}
        >
          <option value="all">whole clip</option>
          <option value="range">range {range}</option>
        </select>
      )}
    </div>
  )
}
