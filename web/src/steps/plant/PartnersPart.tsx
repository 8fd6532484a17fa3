/** Partners: figures of other clips in the scene, where they stand, followed and met half way. */
import { Eye, EyeOff, RefreshCw, X } from 'lucide-react'
import { Fragment, useState, useSyncExternalStore } from 'react'
import {
  addPartner,
  changePartner,
  chooseItsJoint,
  choosePartner,
  type Figured,
  followPartner,
  itsJoint,
  MOST,
  meetHalfWay,
  type Partner,
  removePartner,
  updatePartner,
  usePartners,
} from '../../actions/partners'
import type { Clip } from '../../evaluation/model'
import { Button, NumberInput, Select, Tip } from '../../ui/controls'
import { useBench } from '../../view/bench'
import { transport } from '../../view/transport'
import { useTakes } from '../operation/SourceClip'

const HANDS = ['left hand', 'right hand']

/** Joints of these names, for a choice. */
const named = (names: readonly string[]) => Object.fromEntries(names.map((name) => [name, name]))

/** Frames on which hands meet: the range where it is a part of the clip, else half a second. */
function useFrames(clip: Clip): [number, number] {
  const frame = useSyncExternalStore(transport.subscribe, () => transport.frame)
  if (transport.partial) return transport.range
  const half = Math.round((0.5 * clip.rate[0]!) / clip.rate[1]!)
  return [frame, Math.min(frame + half, clip.frames - 1)]
}

function Where({ clip, partner }: { clip: Clip; partner: Partner }) {
  const up = 'xyz'.indexOf(clip.reading.up_axis)
  return (
    <div className="grid grid-cols-[4rem_1fr] items-center gap-y-1 text-ink-2">
      <span>later by</span>
      <span className="flex items-center gap-1.5">
        <NumberInput
          label="The partner plays later, frames"
          className="w-14"
          digits={0}
          value={partner.later}
          onCommit={(v) => void changePartner(partner, { later: Math.round(v) })}
        />
        frames
      </span>
      <span>moved</span>
      <span className="flex items-center gap-1.5">
        {[0, 1, 2].map((axis) =>
          axis === up ? null : (
            <Fragment key={axis}>
              {'XYZ'[axis]}
              <NumberInput
                label={`The partner is moved along ${'XYZ'[axis]}, cm`}
                className="w-14"
                digits={1}
                value={partner.moved[axis]! / 10}
                onCommit={(cm) => {
                  const moved = [...partner.moved]
                  moved[axis] = 10 * cm
                  void changePartner(partner, { moved })
                }}
              />
            </Fragment>
          ),
        )}
        cm
      </span>
      <span>turned</span>
      <span className="flex items-center gap-1.5">
        <NumberInput
          label="The partner is turned, degrees"
          className="w-14"
          digits={1}
          value={partner.turned}
          onCommit={(turned) => void changePartner(partner, { turned })}
        />
        °
      </span>
    </div>
  )
}

function Together({ clip, partner, figure }: { clip: Clip; partner: Partner; figure: Figured }) {
  const saving = useBench((s) => s.saving)
  const body = useBench((s) => s.body)
  const wanted = usePartners((s) => s.joint)
  const [ours, setOurs] = useState('right hand')
  const frames = useFrames(clip)
  const joints = figure.clip.joints.map((j) => j.name)
  const joint = itsJoint(figure, wanted)
  const isHand = HANDS.includes(figure.roles[joints.indexOf(joint)] ?? '')
  const own = body?.joints.findIndex((j) => j.role === ours) ?? -1
  return (
    <>
      <span className="flex items-center gap-1.5">
        <Select
          label="Joint of the partner"
          className="min-w-0 flex-1"
          value={joint}
          options={named(joints)}
          onChange={chooseItsJoint}
        />
        <Tip text="A prop that goes where the joint goes; plants can be held with it">
          <Button disabled={saving} onClick={() => void followPartner(partner, joint)}>
            Follow the joint
          </Button>
        </Tip>
      </span>
      <span className="flex flex-wrap items-center gap-1.5 text-ink-2">
        with our
        <Select
          label="Our hand"
          className="min-w-28 flex-1"
          value={ours}
          options={named(HANDS)}
          onChange={setOurs}
        />
        <Tip
          text={
            isHand
              ? "Both hands are held at a place between them, in the partner's clip as well"
              : 'Choose a hand of the partner'
          }
        >
          <Button
            disabled={saving || !isHand || own < 0}
            onClick={() => void meetHalfWay(partner, clip.joints[own]!.name, joint, frames)}
          >
            Meet half way, {frames[0]} – {frames[1]}
          </Button>
        </Tip>
      </span>
    </>
  )
}

function PartnerRow({ clip, partner }: { clip: Clip; partner: Partner }) {
  const open = usePartners((s) => s.chosen === partner.name)
  const source = usePartners((s) => s.sources.get(partner.digest))
  const figure = usePartners((s) => s.figures.get(partner.digest))
  const known = usePartners((s) => s.of === clip.id && s.sources.size > 0)
  const Seen = partner.muted ? EyeOff : Eye
  return (
    <li className="flex flex-col gap-1.5 border-rule border-t px-2 py-0.5">
      <span className="flex h-6 items-center gap-1.5">
        <button
          type="button"
          aria-expanded={open}
          className="min-w-0 flex-1 truncate text-left"
          onClick={() => choosePartner(open ? null : partner.name)}
        >
          {partner.name}
        </button>
        <Button
          kind="quiet"
          className="px-1"
          aria-label={`${partner.muted ? 'Unmute' : 'Mute'} ${partner.name}`}
          onClick={() => void changePartner(partner, { muted: !partner.muted })}
        >
          <Seen size={13} />
        </Button>
        <Button
          kind="quiet"
          className="px-1"
          aria-label={`Delete partner ${partner.name}`}
          onClick={() => void removePartner(partner)}
        >
          <X size={13} />
        </Button>
      </span>
      {known && !source && <p className="text-warn">Its clip is not here any more.</p>}
      {source && source.newest !== partner.digest && (
        <span className="flex items-center gap-1.5 text-warn">
          {source.name} has changed since.
          <Button
            aria-label={`Update ${partner.name}`}
            onClick={() => void updatePartner(partner, source.newest)}
          >
            <RefreshCw size={12} /> Update
          </Button>
        </span>
      )}
      {open && (
        <fieldset
          aria-label={`Partner ${partner.name}`}
          className="flex min-w-0 flex-col gap-1.5 pb-1.5"
        >
          <Where clip={clip} partner={partner} />
          {figure && <Together clip={clip} partner={partner} figure={figure} />}
        </fieldset>
      )}
    </li>
  )
}

export function PartnersPart({ clip }: { clip: Clip }) {
  const takes = useTakes(clip.workspace)
  const found = takes.data?.filter((t) => t.frames > 1) ?? []
  return (
    <section aria-label="Partners">
      <div className="flex h-9 items-center gap-1.5 border-rule border-t px-2">
        <h4 className="font-semibold">Partners</h4>
        {clip.partners.length < MOST ? (
          <Select
            label="Add a partner"
            className="min-w-0 flex-1"
            value=""
            options={{
              '': 'a figure beside this one …',
              ...Object.fromEntries(found.map((t) => [String(t.id), t.name])),
            }}
            onChange={(id) => id && void addPartner(Number(id))}
          />
        ) : (
          <span className="text-ink-3">three at the most</span>
        )}
      </div>
      <ul>
        {clip.partners.map((partner) => (
          <PartnerRow key={partner.name} clip={clip} partner={partner} />
        ))}
      </ul>
    </section>
  )
}
