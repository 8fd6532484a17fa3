/** The stage's buttons: from where it is looked at, what is shown on it, posing and review. */
import { Columns2, Maximize2, Scan } from 'lucide-react'
import type { ReactNode } from 'react'
import { usePosing } from '../actions/posing'
import { answer, client, textOf } from '../api/client'
import { useRetargeting } from '../sync/retargeting'
import { Button, Check, NumberInput, Popover, Select, Tip, Toggle } from '../ui/controls'
import { notify, useBench } from '../view/bench'
import { FULL, toggleFull, useFullPane } from '../view/fullPane'
import { type Drawing, drawAs, useViewing } from '../view/viewing'
import type { Placed, View } from './Eye'
import { stageRef } from './refs'
import { review } from './review'

const TITLES: Record<View, string> = {
  front: 'Front',
  side: 'Side',
  top: 'Top',
  'three-quarter': '¾ view',
}

/** A slim bar above the figure: it covers nothing of it. */
export function StageBar({ children }: { children: ReactNode }) {
  const full = useFullPane() === FULL.stage
  const split = useViewing((s) => s.split)
  const posing = usePosing((s) => s.on)
  return (
    <div className="flex min-h-6 shrink-0 flex-wrap items-center max-[900px]:[&_button]:px-1 border-rule border-b bg-raised pr-1 pl-3 [&_button[aria-pressed=false]]:bg-transparent [&_button]:h-[22px] [&_button]:border-transparent">
      <p className="min-w-0 flex-1 truncate text-[12px] text-ink-2 max-[900px]:invisible">
        {children}
      </p>
      <fieldset aria-label="View" className="flex">
        {(Object.keys(TITLES) as View[]).map((view) => (
          <Button key={view} kind="quiet" onClick={() => stageRef.current?.view(view)}>
            {TITLES[view]}
          </Button>
        ))}
        <Tip text="Bring the whole figure into view">
          <Button
            kind="quiet"
            aria-label="Frame figure"
            className="px-1.5"
            onClick={() => stageRef.current?.fit()}
          >
            <Scan size={13} />
          </Button>
        </Tip>
        <Tip text="Two views side by side">
          <Toggle
            on={split}
            aria-label="Split"
            className="px-1.5"
            onClick={() => useViewing.setState({ split: !split })}
          >
            <Columns2 size={13} />
          </Toggle>
        </Tip>
        <CameraMenu />
      </fieldset>
      <span className="mx-1 h-3.5 border-rule-2 border-l" />
      <DrawnAs />
      <ShowMenu />
      <Toggle on={posing} onClick={() => usePosing.setState({ on: !posing })}>
        Pose
      </Toggle>
      <Button kind="quiet" onClick={() => review(true)}>
        Review
      </Button>
      <Toggle
        on={full}
        aria-label="Stage alone"
        onClick={() => toggleFull('stage')}
        className="px-1.5"
      >
        <Maximize2 size={12} />
      </Toggle>
    </div>
  )
}

/** Where a figure on the stage has a body of its own: as that, as the drawn one, or as lines. */
function DrawnAs() {
  const ours = useBench((s) => s.clip?.skin != null)
  const theirs = useRetargeting((s) => s.preview?.doc.skin != null)
  const onStage = useBench((s) => s.step === 'retarget')
  const guest = useViewing((s) => s.guide?.doc.skin != null)
  const has = ours || guest || (onStage && theirs)
  const { bare, own } = useViewing()
  const now = bare ? 'bare' : own ? 'own' : 'drawn'
  if (!has) return null
  return (
    <>
      <fieldset aria-label="Drawn as" className="flex">
        {Object.entries({ own: 'Body', drawn: 'Figure', bare: 'Lines' } as const).map(
          ([how, title]) => (
            <Toggle key={how} on={now === how} onClick={() => drawAs(how as Drawing)}>
              {title}
            </Toggle>
          ),
        )}
      </fieldset>
      <span className="mx-1 h-3.5 border-rule-2 border-l" />
    </>
  )
}

/** Placements stand in line: each is kept after the one before it. */
let placing: Promise<void> = Promise.resolve()

/** Keep a placed camera with the clip, for all who open it. It is looked through at once. */
function place(camera: Placed): void {
  const { clip } = useBench.getState()
  if (!clip) return
  useBench.setState({ clip: { ...clip, camera } })
  stageRef.current?.through(camera)
  const path = { clip_id: clip.id }
  placing = placing
    .then(() =>
      answer(client.PUT('/api/clips/{clip_id}/camera', { params: { path }, body: camera })),
    )
    .then(
      () => {},
      (trouble: unknown) => notify(`The camera was not kept: ${textOf(trouble)}`),
    )
}

function CameraMenu() {
  const camera = useBench((s) => s.clip?.camera ?? null)
  return (
    <Popover name="Camera" trigger={<Button kind="quiet">Camera</Button>}>
      <div className="flex w-72 flex-col gap-2">
        {camera ? (
          <>
            <Button onClick={() => stageRef.current?.through(camera)}>
              Look through the placed camera
            </Button>
            <Vector
              name="position"
              value={camera.position}
              onCommit={(position) => place({ ...camera, position })}
            />
            <Vector
              name="target"
              value={camera.target}
              onCommit={(target) => place({ ...camera, target })}
            />
            <label className="flex items-center justify-between gap-2 text-ink-2">
              field of view, upright
              <span className="flex items-center gap-1.5">
                <NumberInput
                  label="Field of view, degrees"
                  value={camera.fov}
                  onCommit={(fov) => place({ ...camera, fov: Math.min(Math.max(fov, 5), 120) })}
                />
                °
              </span>
            </label>
          </>
        ) : (
          <p className="text-ink-2">
            Turn the view to where the camera shall stand, then place it. It is kept with the clip.
          </p>
        )}
        <Button
          onClick={() => {
            const eye = stageRef.current?.eye
            if (eye) place(eye.standing)
          }}
        >
          Place it where this view stands
        </Button>
      </div>
    </Popover>
  )
}

function Vector({
  name,
  value,
  onCommit,
}: {
  name: string
  value: readonly number[]
  onCommit: (value: number[]) => void
}) {
  return (
    <div className="flex items-center justify-between gap-1 text-ink-2">
      {name}
      <span className="flex items-center gap-1">
        {value.map((v, k) => (
          <NumberInput
            // biome-ignore lint/suspicious/noArrayIndexKey: an axis is its place
            key={k}
            label={`Camera ${name} ${'XYZ'[k]}, metres`}
            value={v}
            className="w-14"
            onCommit={(typed) => onCommit(value.map((old, n) => (n === k ? typed : old)))}
          />
        ))}
        m
      </span>
    </div>
  )
}

const GRIDS = { '0': 'none', '0.1': '10 cm', '0.5': '50 cm', '1': '1 m' }

/** What is drawn about the figure: trails, ghosts, poses held, what sizes are read by. */
function ShowMenu() {
  const view = useViewing()
  const set = useViewing.setState
  const ghost = useBench((s) => s.ghost)
  return (
    <Popover name="Show" trigger={<Button kind="quiet">Show</Button>}>
      <div className="flex w-56 flex-col gap-1">
        <Check
          on={view.bare}
          onChange={(bare) => drawAs(bare ? 'bare' : view.own ? 'own' : 'drawn')}
        >
          Bare: lines and dots
        </Check>
        <Check on={view.follow} onChange={(follow) => set({ follow })}>
          Follow the root
        </Check>
        <Check on={ghost} onChange={(on) => useBench.setState({ ghost: on })}>
          Before ghost of a preview
        </Check>
        <Check on={view.trails} onChange={(trails) => set({ trails })}>
          Trails of selected joints
        </Check>
        <Check on={view.weight} onChange={(weight) => set({ weight })}>
          Centre of mass
        </Check>
        <Check on={view.ghosts} onChange={(ghosts) => set({ ghosts })}>
          Ghost poses
        </Check>
        <Count label="before and after" value={view.span} onChange={(span) => set({ span })} />
        <Count label="between ghosts" value={view.apart} onChange={(apart) => set({ apart })} />
        <Check on={view.hold} onChange={(hold) => set({ hold })}>
          Hold preview: pose to pose
        </Check>
        <label className="mt-1 flex items-center justify-between gap-2 border-rule border-t pt-2 text-ink-2">
          floor ruled
          <Select
            label="Between the floor's lines"
            value={String(view.grid) as keyof typeof GRIDS}
            options={GRIDS}
            onChange={(grid) => set({ grid: Number(grid) })}
          />
        </label>
        <Check on={view.post} onChange={(post) => set({ post })}>
          Scale post, 2 m
        </Check>
        <Check on={view.person} onChange={(person) => set({ person })}>
          A person’s outline, 1.75 m
        </Check>
      </div>
    </Popover>
  )
}

function Count({
  label,
  value,
  onChange,
}: {
  label: string
  value: number
  onChange: (value: number) => void
}) {
  return (
    <label className="flex items-center justify-between gap-2 text-ink-2">
      {label}
      <span className="flex items-center gap-1.5">
        <NumberInput
          label={`${label}, frames`}
          value={value}
          onCommit={(v) => onChange(Math.min(Math.max(Math.round(v), 1), 200))}
        />
        frames
      </span>
    </label>
  )
}
