/** Plant: feet and hands held where they stand, over whatever the curves say. */
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { Eye, EyeOff } from 'lucide-react'
import { useEffect, useRef, useState } from 'react'
import { countsOf } from '../../actions/findings'
import {
  changePlant,
  choosePlant,
  muteAll,
  type PlantFigures,
  plantFromNow,
  samePlant,
} from '../../actions/plants'
import { answer, client, type Schemas } from '../../api/client'
import type { Plant } from '../../evaluation/model'
import { useCatalogue } from '../../sync/catalogue'
import { Button, Row, Select, Tip } from '../../ui/controls'
import { counted, grouped, millimetres } from '../../ui/numbers'
import { useBench } from '../../view/bench'
import { transport } from '../../view/transport'
import { OperationCard } from '../operation/OperationCard'
import { ReportRows } from '../operation/Outcome'
import { Panel } from '../Panel'
import { PlantEditor } from './PlantEditor'
import { PropsPart } from './PropsPart'

/** Figures of the clip's plants: of the head, and while it moves on of the one before. */
function usePlantFigures() {
  const clip = useBench((s) => s.clip)
  const query = { revision: clip?.head.id ?? 0 }
  return useQuery({
    queryKey: ['plants', clip?.id, query.revision],
    enabled: clip !== null,
    placeholderData: keepPreviousData,
    queryFn: () =>
      answer(
        client.GET('/api/clips/{clip_id}/plants', {
          params: { path: { clip_id: clip!.id }, query },
        }),
      ),
  })
}

/** What all plants do together; where hips go down or a place is missed can be gone to. */
function Figures({ figures }: { figures: Schemas['PlantsOut']['figures'] }) {
  const { hips_changed_mm, hips_changed_at, missed_mm, missed_at } = figures
  const { knee_before_deg_s2: knees, knee_after_deg_s2: after } = figures
  const { plants: _, limb_length_error_mm, ...rest } = figures
  const pairs = Object.fromEntries(
    Object.entries(rest).filter(([name]) => /_(before|after)_mm$/.test(name)),
  )
  const at = (frame: number | null | undefined) =>
    frame != null && (
      <button type="button" className="ml-1.5 underline" onClick={() => transport.goTo(frame)}>
        frame {frame}
      </button>
    )
  return (
    <dl data-testid="plant-figures">
      <ReportRows report={pairs} />
      <Row name="Hips lowered by">
        {millimetres(hips_changed_mm ?? 0)}
        {(hips_changed_mm ?? 0) > 0.05 && at(hips_changed_at)}
      </Row>
      <Row name="Out of reach by">
        {millimetres(missed_mm ?? 0)}
        {(missed_mm ?? 0) > 0.05 && at(missed_at)}
      </Row>
      <Row name="Limb length error">{millimetres(limb_length_error_mm ?? 0)}</Row>
      {knees != null && after != null && (
        <Row name="Peak acceleration, knees and elbows">
          {grouped(Math.round(knees))} → <b>{grouped(Math.round(after))}</b> °/s²
        </Row>
      )}
    </dl>
  )
}

function PlantRow({ plant, told }: { plant: Plant; told: PlantFigures | undefined }) {
  const chosen = useBench((s) => samePlant(s.plant, plant))
  return (
    <li>
      <div className={`flex h-7 items-center ${chosen ? 'bg-sunk' : 'hover:bg-sunk'}`}>
        <button
          type="button"
          aria-pressed={chosen}
          className={`flex h-full min-w-0 flex-1 items-center gap-2 px-2 text-left ${chosen ? 'font-semibold' : ''} ${plant.muted ? 'text-ink-3 line-through' : ''}`}
          onClick={() => {
            choosePlant(chosen ? null : plant)
            transport.goTo(plant.first)
          }}
        >
          <span className="flex-1 whitespace-nowrap">{plant.part}</span>
          <span className="num text-ink-2">
            {plant.first}–{plant.last}
          </span>
          <span className="num min-w-[76px] text-right text-ink-3">
            {told && `${told.slide_before_mm.toFixed(0)} → ${told.off_after_mm.toFixed(1)} mm`}
          </span>
        </button>
        <Tip text={plant.muted ? 'Let it hold again' : 'Mute: the capture shows again'}>
          <Button
            kind="quiet"
            aria-label={`${plant.muted ? 'Unmute' : 'Mute'} ${plant.part} from ${plant.first}`}
            onClick={() => void changePlant(plant, { muted: !plant.muted })}
          >
            {plant.muted ? <EyeOff size={13} aria-hidden /> : <Eye size={13} aria-hidden />}
          </Button>
        </Tip>
      </div>
    </li>
  )
}

function AddPlant({ parts }: { parts: string[] }) {
  const [part, setPart] = useState('left hand')
  const joints = useBench((s) => s.joints)
  const clip = useBench((s) => s.clip)
  // Ends of limbs, and whatever joints are selected.
  const all = [...new Set([...parts, ...joints.map((j) => clip!.joints[j]!.name)])]
  const shown = all.includes(part) ? part : (all[0] ?? '')
  if (!parts.length) return null
  return (
    <div className="flex items-center gap-1.5">
      <Select
        label="Part to hold"
        className="min-w-0 flex-1"
        value={shown}
        options={Object.fromEntries(all.map((p) => [p, p]))}
        onChange={setPart}
      />
      <Tip text="Over the range where one is set, else half a second from now">
        <Button onClick={() => void plantFromNow(shown)}>Hold it here</Button>
      </Tip>
    </div>
  )
}

export function PlantPanel() {
  const plants = useBench((s) => s.clip?.plants) ?? []
  const props = useBench((s) => s.clip?.props) ?? []
  const chosen = useBench((s) => s.plant)
  const findings = useBench((s) => s.findings)
  const kinds = useCatalogue((s) => s.kinds)
  const { data } = usePlantFigures()
  const counts = countsOf(findings)
  const open = kinds
    .filter((k) => k.remedy === 'plant')
    .reduce((sum, k) => sum + (counts[k.name] ?? 0), 0)
  const current = plants.find((p) => samePlant(p, chosen)) ?? null
  // What was made is told first: the panel shows it.
  const outcome = useRef<HTMLDivElement>(null)
  const count = plants.length
  const before = useRef(count)
  useEffect(() => {
    if (count > before.current) outcome.current?.scrollIntoView({ block: 'start' })
    before.current = count
  }, [count])
  const allMuted = plants.length > 0 && plants.every((p) => p.muted)
  return (
    <Panel
      title="Plant"
      lead="Feet and hands are held where they are, over whatever the curves say. The curves below stay as they are."
    >
      {plants.length > 0 && (
        <div ref={outcome} className="flex flex-col gap-3">
          {data && <Figures figures={data.figures} />}
          <div className="flex items-center justify-between gap-2">
            <h3 className="font-semibold">{counted(plants.length, 'plant')}</h3>
            <Button onClick={() => muteAll(plants, !allMuted)}>
              {allMuted ? 'Unmute all' : 'Mute all'}
            </Button>
          </div>
          <ul
            aria-label="Plants"
            className="max-h-[max(7rem,26vh)] min-h-14 shrink-0 overflow-y-auto rounded-[3px] border border-rule bg-paper text-[12px]"
          >
            {plants.map((plant) => (
              <PlantRow
                key={`${plant.part}/${plant.first}`}
                plant={plant}
                told={data?.plants.find((p) => p.part === plant.part && p.first === plant.first)}
              />
            ))}
          </ul>
          {current && <PlantEditor key={`${current.part}/${current.first}`} plant={current} />}
        </div>
      )}
      <OperationCard
        name="plant"
        count={open}
        hidden={['hold_turn', 'with_joint', 'with_prop', ...(props.length ? [] : ['floor'])]}
      />
      {plants.length === 0 && (
        <p className="text-ink-3">
          Nothing is planted yet. “Plant the feet” holds every foot where its contacts say that it
          stands; a slide in Inspect leads here as well.
        </p>
      )}
      <AddPlant parts={data?.parts ?? []} />
      <PropsPart />
      {plants.length > 0 && <OperationCard name="bake_plants" />}
      <OperationCard name="mend_limbs" />
    </Panel>
  )
}
