/** The take's file read again with other choices: what comes of it is a take beside this one. */
import { useQuery, useQueryClient } from '@tanstack/react-query'
import { X } from 'lucide-react'
import { useState } from 'react'
import { answer, client, type Schemas, textOf } from '../../api/client'
import type { Clip } from '../../evaluation/model'
import { useJob } from '../../sync/useJob'
import { Button, Choice, inputLook } from '../../ui/controls'
import { RATES } from '../../ui/rates'
import { Section, Trouble } from '../Panel'

type Choices = Schemas['ChoicesIn']

const ORDERS = ['XYZ', 'XZY', 'YXZ', 'YZX', 'ZXY', 'ZYX']
const BOUNDS = ['0.01', '0.1', '0.5', '1']
/** Endings of files that hold rotations without an order of angles. */
const TURNS = /\.(glb|gltf|usd[acz]?|zip)$/i

const named = (names: readonly string[]) => Object.fromEntries(names.map((n) => [n, n]))

/** The order of a joint's rotation channels, such as "ZXY"; empty where it has none. */
const orderOf = (channels: readonly string[]): string =>
  channels
    .filter((c) => c[0] === 'r')
    .map((c) => c[1]!.toUpperCase())
    .join('')

/** Which joints turn in which order, the order that most have first. */
function byOrder(clip: Clip): [string, string[]][] {
  const found = new Map<string, string[]>()
  for (const joint of clip.joints) {
    const order = orderOf(joint.channels)
    if (order) found.set(order, [...(found.get(order) ?? []), joint.name])
  }
  return [...found].sort((a, b) => b[1].length - a[1].length)
}

function OrderPerJoint({
  clip,
  orders,
  onChange,
}: {
  clip: Clip
  orders: Record<string, string>
  onChange: (orders: Record<string, string>) => void
}) {
  return (
    <>
      {Object.entries(orders).map(([joint, order]) => (
        <div key={joint} className="flex items-center gap-2">
          <span className="min-w-0 flex-1 truncate" title={joint}>
            {joint}
          </span>
          <select
            aria-label={`Order of ${joint}`}
            className={inputLook}
            value={order}
            onChange={(e) => onChange({ ...orders, [joint]: e.target.value })}
          >
            {ORDERS.map((o) => (
              <option key={o}>{o}</option>
            ))}
          </select>
          <Button
            kind="quiet"
            aria-label={`Take ${joint} off the list`}
            onClick={() => {
              const { [joint]: _, ...rest } = orders
              onChange(rest)
            }}
          >
            <X size={12} />
          </Button>
        </div>
      ))}
      <select
        aria-label="An order for one joint"
        className={inputLook}
        value=""
        onChange={(e) => onChange({ ...orders, [e.target.value]: 'XYZ' })}
      >
        <option value="">An order for one joint …</option>
        {clip.joints
          .filter((j) => !(j.name in orders))
          .map((j) => (
            <option key={j.name}>{j.name}</option>
          ))}
      </select>
    </>
  )
}

export function ReadAgain({ clip, onRead }: { clip: Clip; onRead: (take: number) => void }) {
  const queries = useQueryClient()
  const [chosen, setChosen] = useState<Choices | null>(null)
  const [trouble, setTrouble] = useState<string | null>(null)
  const params = { path: { take_id: clip.take } }
  const take = useQuery({
    queryKey: ['take', clip.take],
    queryFn: () => answer(client.GET('/api/takes/{take_id}', { params })),
  })
  const { running, progress, wait, cancel } = useJob(`read.${clip.take}`, (job) => {
    if (job.state === 'failed') setTrouble(job.message)
    if (job.state !== 'done') return
    void queries.invalidateQueries({ queryKey: ['takes'] })
    onRead((job.result as { take: number }).take)
  })
  if (!take.data) return null
  const told: Choices = chosen ?? take.data.choices
  const choose = (more: Partial<Choices>) => setChosen({ ...told, ...more })
  const read = async () => {
    setTrouble(null)
    try {
      wait(await answer(client.POST('/api/takes/{take_id}/reading', { params, body: told })))
    } catch (reason) {
      setTrouble(textOf(reason))
    }
  }
  const rate = Object.entries(RATES).find(
    ([, [n, d]]) => told.rate?.[0] === n && told.rate[1] === d,
  )
  const [usual, ...others] = byOrder(clip)
  const orders = told.orders ?? {}
  return (
    <Section title="Read the file again">
      <p className="truncate text-ink-2" title={take.data.file_name}>
        {take.data.file_name}
      </p>
      <Choice
        label="Frames a second"
        value={rate?.[0] ?? ''}
        options={{ '': 'as the file tells', ...named(Object.keys(RATES)) }}
        onChange={(v) => choose({ rate: RATES[v] ?? null })}
      />
      {TURNS.test(take.data.file_name) && (
        <>
          <Choice
            label="Rotation order"
            value={told.order ?? ''}
            options={{ '': 'per joint, away from gimbal lock', ...named(ORDERS) }}
            onChange={(v) => choose({ order: v || null })}
          />
          {usual && (
            <p className="text-ink-2">
              now {usual[0]}
              {others.map(([order, joints]) => `; ${joints.join(', ')} in ${order}`)}
            </p>
          )}
          <OrderPerJoint clip={clip} orders={orders} onChange={(o) => choose({ orders: o })} />
          <Choice
            label="Rotation between keys"
            value={told.within_deg ? String(told.within_deg) : ''}
            options={{
              '': 'a value on every frame',
              ...Object.fromEntries(BOUNDS.map((b) => [b, `few keys, within ${b}°`])),
            }}
            onChange={(v) => choose({ within_deg: Number(v) || null })}
          />
        </>
      )}
      {trouble && <Trouble>{trouble}</Trouble>}
      <div className="flex gap-2">
        <Button kind="primary" disabled={running || !chosen} onClick={() => void read()}>
          {running ? `Reading, ${Math.round(100 * progress)} %` : 'Read again'}
        </Button>
        {running && <Button onClick={cancel}>Cancel</Button>}
      </div>
      <p className="text-ink-3">
        It becomes a take of its own on the shelf. This clip stays as it is until you swap that take
        in.
      </p>
    </Section>
  )
}
