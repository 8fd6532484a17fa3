/** The body: what each joint is taken for, on a picture and in a list, to be corrected and kept. */
import { useState } from 'react'
import { answer, client, type Schemas } from '../../api/client'
import { notify, useBench } from '../../clip/bench'
import { selectJoints } from '../../clip/choose'
import { write } from '../../clip/write'
import { Button, inputLook } from '../../ui/controls'

/** Where roles sit on the picture, the figure seen from the front: its left is on the right. */
const MIDDLE: Record<string, [number, number]> = {
  head: [0, 12],
  neck: [0, 26],
  spine: [0, 48],
  hips: [0, 70],
}
const SIDED: Record<string, [number, number]> = {
  clavicle: [8, 32],
  'upper arm': [20, 34],
  forearm: [34, 52],
  hand: [46, 70],
  thigh: [9, 80],
  shin: [11, 108],
  foot: [12, 136],
  toe: [18, 144],
}
const FINGERS = ['thumb', 'index', 'middle', 'ring', 'little']

function places(): Record<string, [number, number]> {
  const out: Record<string, [number, number]> = { ...MIDDLE }
  for (const [side, sign] of [
    ['left', 1],
    ['right', -1],
  ] as const) {
    for (const [part, [x, y]] of Object.entries(SIDED)) out[`${side} ${part}`] = [sign * x, y]
    FINGERS.forEach((finger, k) => {
      out[`${side} ${finger}`] = [sign * (42 + 5 * k), 84 - Math.abs(k - 2)]
    })
  }
  return out
}
const PLACES = places()

const LINES = [
  'M0 12V70',
  ...[1, -1].flatMap((s) => [
    `M0 32H${8 * s}L${20 * s} 34L${34 * s} 52L${46 * s} 70`,
    `M0 70L${9 * s} 80L${11 * s} 108L${12 * s} 136L${18 * s} 144`,
  ]),
]

function Picture({ body }: { body: Schemas['BodyOut'] }) {
  const joints = useBench((s) => s.joints)
  const chosen = new Set(joints.map((j) => body.joints[j]?.role))
  return (
    // biome-ignore lint/a11y/useSemanticElements: a picture with parts to press
    <svg
      viewBox="-72 0 144 152"
      className="h-[190px] w-full"
      role="group"
      aria-label="Body picture"
    >
      <title>What is known of the body</title>
      <path d={LINES.join('')} className="fill-none stroke-rule-2" strokeWidth={2.4} />
      <text x={-70} y={10} className="fill-ink-3 text-[7px]">
        right
      </text>
      <text x={70} y={10} textAnchor="end" className="fill-ink-3 text-[7px]">
        left
      </text>
      {Object.entries(PLACES).map(([role, [x, y]]) => {
        const found = body.joints.flatMap((j, k) => (j.role === role ? [k] : []))
        const sure = found.length ? Math.min(...found.map((k) => body.joints[k]!.confidence)) : 0
        const finger = FINGERS.some((f) => role.endsWith(f))
        const text = found.length ? `${role}: ${Math.round(100 * sure)} %` : `${role}: not found`
        return (
          // biome-ignore lint/a11y/useSemanticElements: a shape of a picture
          <g
            key={role}
            role="button"
            tabIndex={found.length ? 0 : -1}
            aria-label={text}
            className={found.length ? 'cursor-pointer' : ''}
            onClick={() => found.length && selectJoints(found)}
            onKeyDown={(e) => e.key === 'Enter' && found.length && selectJoints(found)}
          >
            <title>{text}</title>
            <circle cx={x} cy={y} r={finger ? 3.2 : 6} fill="transparent" />
            <circle
              cx={x}
              cy={y}
              r={finger ? 2 : 4}
              className={`${found.length ? 'fill-calm' : 'fill-paper'} ${chosen.has(role) ? 'stroke-signal' : found.length ? 'stroke-ink' : 'stroke-rule-2'}`}
              fillOpacity={found.length ? 0.2 + 0.8 * sure : 1}
              strokeWidth={chosen.has(role) ? 1.8 : 0.8}
              strokeDasharray={found.length ? undefined : '1.5 1.5'}
            />
          </g>
        )
      })}
    </svg>
  )
}

function Roles({ body }: { body: Schemas['BodyOut'] }) {
  const clip = useBench((s) => s.clip)!
  const joints = useBench((s) => s.joints)
  const saving = useBench((s) => s.saving)
  const set = (joint: string, role: string) => {
    const line = clip.head.recipe[0]!
    const params = line.params as { roles?: Record<string, string> }
    const roles = { ...params.roles, [joint]: role }
    const edit = { line_id: line.line_id, operation: 'read', scope: {} }
    void write({ edit: { ...edit, params: { ...params, roles } } })
  }
  return (
    <ul
      aria-label="Roles of the joints"
      className="min-h-24 flex-1 overflow-y-auto rounded-[3px] border border-rule bg-paper text-[12px]"
    >
      {clip.joints.map(({ name }, j) => {
        const known = body.joints[j]
        if (!known) return null
        return (
          <li
            key={name}
            className={`flex h-7 items-center gap-1 pl-1.5 ${joints.includes(j) ? 'bg-sunk' : ''}`}
          >
            <button
              type="button"
              className="h-6 min-w-0 flex-1 truncate text-left hover:underline"
              onClick={() => selectJoints([j])}
            >
              {name}
            </button>
            <span
              className={`num w-9 text-right ${known.confidence < 0.5 ? 'text-bad' : 'text-ink-3'}`}
              title={`from its ${known.source}`}
            >
              {known.source === 'hand' ? 'set' : `${Math.round(100 * known.confidence)} %`}
            </span>
            <select
              aria-label={`Role of ${name}`}
              className={`${inputLook} h-6 w-[104px] px-1`}
              value={known.role}
              disabled={saving}
              onChange={(e) => set(name, e.target.value)}
            >
              {body.roles.map((r) => (
                <option key={r}>{r}</option>
              ))}
            </select>
          </li>
        )
      })}
    </ul>
  )
}

export function BodyPart() {
  const clip = useBench((s) => s.clip)
  const body = useBench((s) => s.body)
  const joints = useBench((s) => s.joints)
  const [group, setGroup] = useState('')
  if (!clip || !body) return <p className="text-ink-3">Reading the skeleton …</p>
  const keep = async (groups: Record<string, number[]>) => {
    const named = Object.fromEntries(
      Object.entries(groups).map(([g, js]) => [g, js.map((j) => clip.joints[j]!.name)]),
    )
    try {
      const kept = await answer(
        client.PUT('/api/clips/{clip_id}/profile', {
          params: { path: { clip_id: clip.id } },
          body: { revision: clip.head.id, groups: named },
        }),
      )
      useBench.setState({ body: kept })
      notify(`Kept for skeletons like ${kept.profile}.`)
    } catch (trouble) {
      notify((trouble as Error).message)
    }
  }
  const addGroup = () => {
    const name = group.trim()
    if (!name) return
    setGroup('')
    void keep({ ...body.own_groups, [name]: joints })
  }
  return (
    <>
      <Picture body={body} />
      <fieldset aria-label="Groups of joints" className="flex flex-wrap gap-1">
        {Object.entries({ ...body.groups, ...body.own_groups }).map(([name, js]) => (
          <Button key={name} onClick={() => selectJoints(js)}>
            {name}
          </Button>
        ))}
      </fieldset>
      <div className="flex gap-1.5">
        <input
          className={`${inputLook} h-6 flex-1 placeholder:text-ink-3`}
          placeholder={`Name for ${joints.length} selected`}
          aria-label="Name of a new group"
          value={group}
          onChange={(e) => setGroup(e.target.value)}
          onKeyDown={(e) => e.key === 'Enter' && addGroup()}
        />
        <Button disabled={!group.trim()} onClick={addGroup}>
          Keep group
        </Button>
      </div>
      <Roles body={body} />
      <Button onClick={() => void keep(body.own_groups)}>
        {body.profile ? `Keep in the profile ${body.profile}` : 'Keep as a profile'}
      </Button>
    </>
  )
}
