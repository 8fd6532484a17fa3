/** What an operation may touch: which joints, and when. */
import { useSyncExternalStore } from 'react'
import { handScope } from '../../actions/edits'
import type { Finding, Scope } from '../../evaluation/model'
import { inputLook } from '../../ui/controls'
import { useBench } from '../../view/bench'
import { transport } from '../../view/transport'

/** As chosen in the panel; turned into a scope when asked for, since the selection moves. */
export interface ScopeChosen {
  joints: string
  time: 'all' | 'range' | 'finding'
  /** The finding that is to be mended, where one led here. */
  at?: Finding
}

const SHOWN = 'shown channels'
const KEYS = 'selected keys'
const FOUND = 'the finding'

/** Where an operation begins: on a finding's own place; else on the range where one is set, and
 * on the whole body, or for hand work on the channels that are shown. */
export function beginning(where: 'all' | 'shown', at: Finding | null = null): ScopeChosen {
  if (at) return { joints: partOf(at), time: 'finding', at }
  return { joints: where === 'shown' ? SHOWN : 'all', time: transport.partial ? 'range' : 'all' }
}

/** What has to give way for a finding to be mended: its joint, a foot's leg, all that stands still. */
function partOf({ kind, joint }: Finding): string {
  const { body, clip } = useBench.getState()
  const index = clip?.joints.findIndex((j) => j.name === joint) ?? -1
  if (kind === 'gap' && index === 0) return 'all'
  const legs = Object.entries(body?.groups ?? {}).filter(([name]) => name.endsWith(' leg'))
  const leg = legs.find(([, joints]) => joints.includes(index))
  return (kind === 'sink' || kind === 'float') && leg ? leg[0] : FOUND
}

export function scopeOf(choice: ScopeChosen): Scope {
  const { clip, joints, body } = useBench.getState()
  const scope: Scope = {}
  const { at } = choice
  if (choice.joints === FOUND && at) scope.joints = [at.joint]
  else if (choice.joints === SHOWN) Object.assign(scope, handScope(new Map()))
  else if (choice.joints === KEYS) Object.assign(scope, handScope())
  else if (choice.joints === 'selected' && clip)
    scope.joints = joints.map((j) => clip.joints[j]!.name)
  else if (body && choice.joints in body.own_groups && clip)
    scope.joints = body.own_groups[choice.joints]!.map((j) => clip.joints[j]!.name)
  else if (choice.joints !== 'all') scope.groups = [choice.joints]
  if (choice.time === 'range') scope.frames = [...transport.range]
  if (choice.time === 'finding' && at) scope.frames = [at.first, at.last]
  return scope
}

const rangeText = () => transport.range.join(' – ')

export function ScopeChoice({
  value,
  scoped,
  ranged,
  keyed,
  byHand,
  onChange,
}: {
  value: ScopeChosen
  scoped: boolean
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
      {scoped && (
        <select
          aria-label="Which joints"
          className={`${inputLook} h-6 flex-1`}
          value={value.joints}
          onChange={(e) => onChange({ ...value, joints: e.target.value })}
        >
          {value.at && <option value={FOUND}>{value.at.joint}</option>}
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
      )}
      {ranged && (
        <select
          aria-label="Which frames"
          className={`${inputLook} num h-6 flex-1`}
          value={value.time}
          onChange={(e) => onChange({ ...value, time: e.target.value as ScopeChosen['time'] })}
        >
          <option value="all">whole clip</option>
          {value.at && (
            <option value="finding">
              frames {value.at.first} – {value.at.last}
            </option>
          )}
          <option value="range">range {range}</option>
        </select>
      )}
    </div>
  )
}
