/** Placement: where the whole clip stands, in numbers that are an edit each. */
import { Volume2, VolumeX } from 'lucide-react'
import { useState } from 'react'
import type { Clip } from '../../evaluation/model'
import { localAt } from '../../evaluation/poses'
import { apply } from '../../sync/write'
import { Button, NumberInput, Tip } from '../../ui/controls'
import { useBench } from '../../view/bench'
import { transport } from '../../view/transport'

const AXES = ['X', 'Y', 'Z'] as const
const NOWHERE = { move: [0, 0, 0], turn: 0, scale: 1, muted: false }

const place = (change: Record<string, unknown>): Promise<boolean> => apply('place', change)
/** Centimetres, as shown, in the millimetres of a recipe. */
const inMm = (values: readonly number[]): number[] => values.map((v) => 10 * v)

function Three({
  label,
  told,
  values,
  onCommit,
}: {
  label: string
  told: string
  values: readonly number[]
  onCommit: (values: number[]) => void
}) {
  return (
    <div className="flex items-center justify-between gap-1 text-ink-2">
      <span className="whitespace-nowrap">{told}</span>
      {AXES.map((axis, k) => (
        <NumberInput
          key={axis}
          label={`${label}, ${axis}`}
          className="w-[58px]"
          digits={1}
          value={values[k]!}
          onCommit={(v) => onCommit(values.map((old, n) => (n === k ? v : old)))}
        />
      ))}
    </div>
  )
}

/** Where the root is at now, on the floor, cm. */
function rootNow(clip: Clip, cm: number): number[] | null {
  const { poses } = useBench.getState()
  const root = clip.joints.findIndex((j) => j.parent < 0)
  if (!poses || root < 0) return null
  const { translation } = localAt(clip.joints, poses, root, transport.frame)
  const up = 'xyz'.indexOf(clip.reading.up_axis)
  return translation.map((v, k) => (k === up ? 0 : v * cm))
}

export function PlacementPart({ clip }: { clip: Clip }) {
  const [open, setOpen] = useState(false)
  const { placement } = clip
  const cm = clip.reading.metres_per_unit * 100
  const now = placement ?? { ...NOWHERE, about: null }
  const rests = now.move.every((v) => v === 0) && now.turn === 0 && now.scale === 1 && !now.muted
  const inCm = (values: readonly number[]) => values.map((v) => v * cm)
  return (
    <section
      aria-label="Placement"
      className="flex flex-col gap-1.5 rounded-[4px] border border-rule-2 px-2 py-1.5"
    >
      <div className="flex h-6 items-center gap-1.5">
        <button
          type="button"
          aria-expanded={open}
          className="min-w-0 flex-1 text-left"
          onClick={() => setOpen(!open)}
        >
          <b className={now.muted ? 'text-ink-3 line-through' : ''}>Placement</b>
          <span className="text-ink-3">
            {rests ? ' where it was captured' : ' of the whole clip'}
          </span>
        </button>
        {placement && (
          <button
            type="button"
            aria-label={now.muted ? 'Unmute the placement' : 'Mute the placement'}
            aria-pressed={now.muted}
            className={`grid size-6 shrink-0 place-items-center rounded-[3px] hover:bg-paper ${now.muted ? 'text-signal' : 'text-ink-2'}`}
            onClick={() => void place({ muted: !now.muted })}
          >
            {now.muted ? <VolumeX size={13} /> : <Volume2 size={13} />}
          </button>
        )}
      </div>
      {open && (
        <>
          <Three
            label="Move the clip"
            told="move, cm"
            values={inCm(now.move)}
            onCommit={(move) => void place({ move: inMm(move) })}
          />
          <div className="flex items-center justify-between gap-1 text-ink-2">
            <span className="whitespace-nowrap">turn, °</span>
            <NumberInput
              label="Turn the clip, degrees"
              className="w-[58px]"
              digits={1}
              value={now.turn}
              onCommit={(turn) => void place({ turn })}
            />
            <Tip text="How long its path over the floor is; heights and the body stay as they are">
              <span className="whitespace-nowrap">travel, ×</span>
            </Tip>
            <NumberInput
              label="Scale the clip’s travel, times"
              className="w-[58px]"
              digits={2}
              value={now.scale}
              onCommit={(scale) => void place({ scale: Math.max(0.01, scale) })}
            />
          </div>
          {now.about && (
            <Three
              label="About the point"
              told="about, cm"
              values={inCm(now.about)}
              onCommit={(about) => void place({ about: inMm(about) })}
            />
          )}
          <div className="flex gap-1.5">
            <Tip text="Turn and scale about the point of the floor under the root at now">
              <Button
                onClick={() => {
                  const about = rootNow(clip, cm)
                  if (about) void place({ about: inMm(about) })
                }}
              >
                About now
              </Button>
            </Tip>
            <Button
              disabled={rests}
              onClick={() => void place({ move: [0, 0, 0], turn: 0, scale: 1, muted: false })}
            >
              Put back
            </Button>
          </div>
        </>
      )}
    </section>
  )
}
