/** The body: what each joint is taken for, on a picture and in a list, to be corrected and kept. */
import { useState } from 'react'
import { selectJoints } from '../../actions/choose'
import { answer, client, type Schemas } from '../../api/client'
import { write } from '../../sync/write'
import { Button, inputLook } from '../../ui/controls'
import { tapered } from '../../ui/drawn'
import { notify, useBench } from '../../view/bench'

/** How sure a role is, in a word. */
function sureness(confidence: number, source: string): string {
  if (source === 'hand') return 'set'
  if (confidence >= 0.8) return 'sure'
  return confidence >= 0.5 ? 'likely' : 'doubtful'
}

/** The take's own figure at rest, from the front: the surer a joint's role, the heavier its ink. */
function Picture({ body }: { body: Schemas['BodyOut'] }) {
  const joints = useBench((s) => s.joints)
  const names = useBench((s) => s.clip!.joints)
  const [hovered, setHovered] = useState<number | null>(null)
  const { figure } = body
  const xs = figure.flatMap(([, x1, , r1, x2, , r2]) => [
    x1! - r1!,
    x1! + r1!,
    x2! - r2!,
    x2! + r2!,
  ])
  const ys = figure.flatMap(([, , y1, r1, , y2, r2]) => [
    -y1! - r1!,
    -y1! + r1!,
    -y2! - r2!,
    -y2! + r2!,
  ])
  const [left, top] = [Math.min(...xs) - 0.03, Math.min(...ys) - 0.03]
  const [wide, high] = [Math.max(...xs) + 0.03 - left, Math.max(...ys) + 0.03 - top]
  const told = hovered ?? joints[0] ?? null
  const known = told === null ? null : body.joints[told]
  return (
    <figure className="flex flex-col gap-1">
      {/* biome-ignore lint/a11y/useSemanticElements: a picture with parts to press */}
      <svg
        viewBox={`${left} ${top} ${wide} ${high}`}
        className="h-[210px] w-full"
        role="group"
        aria-label="Body picture, from the front"
      >
        {figure.map(([joint, x1, y1, r1, x2, y2, r2], n) => {
          const j = joint!
          const { role, confidence, source } = body.joints[j]!
          const path = tapered(x1!, -y1!, r1!, x2!, -y2!, r2!)
          const text = `${names[j]!.name}: ${role}, ${sureness(confidence, source)}`
          return (
            // biome-ignore lint/a11y/useSemanticElements: a shape of a picture
            <g
              // biome-ignore lint/suspicious/noArrayIndexKey: shapes of a still picture
              key={n}
              role="button"
              tabIndex={-1}
              aria-label={text}
              className="cursor-pointer"
              onClick={() => selectJoints([j])}
              onKeyDown={(e) => e.key === 'Enter' && selectJoints([j])}
              onPointerEnter={() => setHovered(j)}
              onPointerLeave={() => setHovered(null)}
            >
              <title>{text}</title>
              {/* Small parts are pressed a little beside them, too. */}
              <path d={path} className="fill-none stroke-transparent" strokeWidth={0.03} />
              <path
                d={path}
                className={`${joints.includes(j) ? 'fill-signal stroke-signal' : hovered === j ? 'fill-sunk stroke-ink' : 'fill-raised stroke-ink'}`}
                fillOpacity={joints.includes(j) ? 0.25 : 1}
                strokeWidth={0.002 + 0.008 * confidence ** 2}
                strokeDasharray={confidence < 0.5 && source !== 'hand' ? '0.012 0.012' : undefined}
              />
            </g>
          )
        })}
      </svg>
      <figcaption className="flex justify-between gap-2 text-[12px]">
        <span className="text-ink-3">its right</span>
        <span className="truncate">
          {known && told !== null && (
            <>
              <b>{names[told]!.name}</b> {known.role}, {sureness(known.confidence, known.source)}
            </>
          )}
        </span>
        <span className="text-ink-3">its left</span>
      </figcaption>
    </figure>
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
              className={`w-14 text-right ${known.confidence < 0.5 ? 'text-bad' : 'text-ink-3'}`}
              title={
                known.source === 'hand'
                  ? 'set by hand'
                  : `${Math.round(100 * known.confidence)} %, from its ${known.source}`
              }
            >
              {sureness(known.confidence, known.source)}
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
