/** The steps that work, in the order of the work: the rail and the panels read this. */
import {
  Combine,
  FileOutput,
  Footprints,
  Inbox,
  ListOrdered,
  type LucideIcon,
  PenTool,
  PersonStanding,
  Scale,
  ScanSearch,
  Spline,
  Waves,
  Waypoints,
} from 'lucide-react'
import type { ComponentType } from 'react'
import { measuredNow, openFor } from '../actions/findings'
import type { BenchState, StepName } from '../view/bench'
import { BalancePanel } from './balance/BalancePanel'
import { BringInPanel } from './bring-in/BringInPanel'
import { CalmPanel } from './calm/CalmPanel'
import { DeliverPanel } from './deliver/DeliverPanel'
import { InspectPanel } from './inspect/InspectPanel'
import { JoinPanel } from './join/JoinPanel'
import { PlantPanel } from './plant/PlantPanel'
import { RecipePanel } from './recipe/RecipePanel'
import { RetargetPanel } from './retarget/RetargetPanel'
import { ShapePanel } from './shape/ShapePanel'
import { ThinPanel } from './thin/ThinPanel'
import { UnflipPanel } from './unflip/UnflipPanel'

export interface Step {
  name: StepName
  title: string
  Icon: LucideIcon
  Panel: ComponentType
  /** Open findings of the step, or null where it has none of its own. */
  open: (state: BenchState) => number | null
  done: (state: BenchState) => boolean
}

const has = (state: BenchState, operation: string) =>
  state.clip?.head.recipe.some((line) => line.operation === operation) ?? false

export const STEPS: readonly Step[] = [
  {
    name: 'bring-in',
    title: 'Bring in',
    Icon: Inbox,
    Panel: BringInPanel,
    open: () => null,
    done: (s) => s.clip !== null && s.clip.warnings.length === 0,
  },
  {
    name: 'inspect',
    title: 'Inspect',
    Icon: ScanSearch,
    Panel: InspectPanel,
    open: (s) => openFor(s.findings, 'inspect'),
    done: (s) => measuredNow(s) && s.findings!.every((f) => f.accepted || f.kind === 'idle'),
  },
  {
    name: 'unflip',
    title: 'Unflip',
    Icon: Waypoints,
    Panel: UnflipPanel,
    open: (s) => openFor(s.findings, 'unflip'),
    done: (s) => measuredNow(s) && openFor(s.findings, 'unflip') === 0,
  },
  {
    name: 'calm',
    title: 'Calm',
    Icon: Waves,
    Panel: CalmPanel,
    open: (s) => openFor(s.findings, 'calm'),
    done: (s) => measuredNow(s) && openFor(s.findings, 'calm') === 0,
  },
  {
    name: 'thin',
    title: 'Thin',
    Icon: Spline,
    Panel: ThinPanel,
    open: () => null,
    done: (s) => has(s, 'thin'),
  },
  {
    name: 'plant',
    title: 'Plant',
    Icon: Footprints,
    Panel: PlantPanel,
    open: (s) => openFor(s.findings, 'plant'),
    done: (s) => measuredNow(s) && s.clip!.plants.length > 0 && openFor(s.findings, 'plant') === 0,
  },
  {
    name: 'balance',
    title: 'Balance',
    Icon: Scale,
    Panel: BalancePanel,
    open: (s) => openFor(s.findings, 'balance'),
    done: (s) => has(s, 'balance') && measuredNow(s) && openFor(s.findings, 'balance') === 0,
  },
  {
    name: 'retarget',
    title: 'Retarget',
    Icon: PersonStanding,
    Panel: RetargetPanel,
    open: (s) => (s.clip?.retargeted?.newest ? 1 : null),
    done: (s) => has(s, 'retarget'),
  },
  {
    name: 'shape',
    title: 'Shape',
    Icon: PenTool,
    Panel: ShapePanel,
    open: (s) => openFor(s.findings, 'shape'),
    done: () => false,
  },
  {
    name: 'join',
    title: 'Join',
    Icon: Combine,
    Panel: JoinPanel,
    open: () => null,
    done: (s) => has(s, 'join'),
  },
  {
    name: 'deliver',
    title: 'Deliver',
    Icon: FileOutput,
    Panel: DeliverPanel,
    open: () => null,
    done: () => false,
  },
  {
    name: 'recipe',
    title: 'Recipe',
    Icon: ListOrdered,
    Panel: RecipePanel,
    open: () => null,
    done: () => false,
  },
]
