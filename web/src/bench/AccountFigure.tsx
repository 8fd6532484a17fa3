/** The header's two figures: the largest change that calm and thin made, and the fixes; the list behind them. */
import { accounted, costText, goToPlace, mendedText, perLine } from '../actions/account'
import { Button, Popover } from '../ui/controls'
import { degrees, millimetres, rounded } from '../ui/numbers'
import { useBench } from '../view/bench'

const KINDS = {
  calm: 'Calm: noise down',
  thin: 'Thin: few keys',
  mend: 'Fixes: what was wrong is put right',
  plant: 'Plants: feet and hands held where they stand',
  hand: 'By hand, in the clip’s own curves: what was meant',
  layer: 'Layers: what was meant, over the curves',
  place: 'Placement: all of it put elsewhere',
  continuity: 'Reading and continuity: must move nothing',
} as const

type Kind = keyof typeof KINDS
const MOST_LISTED = 200

function Place({ text, size, at }: { text: string; size: string; at: [string, number] }) {
  return (
    <li>
      <button
        type="button"
        className="flex min-h-6 w-full items-baseline justify-between gap-3 rounded-[3px] px-1 text-left hover:bg-sunk"
        onClick={() => goToPlace(...at)}
      >
        <span className="min-w-0 flex-1 truncate">{text}</span>
        <span className="num whitespace-nowrap text-ink-2">{size}</span>
      </button>
    </li>
  )
}

function Lines({ kind }: { kind: Kind }) {
  const account = useBench((s) => s.account)
  const lines = perLine(account, kind)
  if (!account || lines.length === 0) return null
  return (
    <section>
      <h3 className="pt-1.5 pb-0.5 font-semibold text-ink-2">{KINDS[kind]}</h3>
      <ul>
        {lines.map((line) => (
          <Place
            key={line.line_id}
            text={`${line.told}${line.deg.name ? ` · ${line.deg.name}, frame ${line.deg.frame}` : ''}`}
            size={`${degrees(line.deg.size)} · ${millimetres(line.mm.size)}`}
            at={[line.deg.name || line.mm.name, line.deg.name ? line.deg.frame : line.mm.frame]}
          />
        ))}
        {kind === 'mend' &&
          account.mended
            .slice(0, MOST_LISTED)
            .map((m) => (
              <Place
                key={`${m.joints[0]}/${m.first}/${m.last}`}
                text={`${m.joints[0]}${m.joints.length > 1 ? ` and ${m.joints.length - 1} more` : ''}, ${m.first === m.last ? `frame ${m.first}` : `frames ${m.first}–${m.last}`}`}
                size={`${degrees(m.deg)}${m.off_deg === null ? '' : `, now ${degrees(rounded(m.off_deg))} off its neighbours`}`}
                at={[m.joints[0]!, m.first]}
              />
            ))}
      </ul>
    </section>
  )
}

export function AccountFigure() {
  const account = useBench((s) => s.account)
  const known = useBench(accounted)
  return (
    <Popover
      name="What the recipe did to the motion"
      trigger={
        <Button
          data-testid="drift"
          title="How far Calm and Thin have moved the motion at most, and what was fixed"
          className="num min-w-[228px] justify-center max-[1000px]:min-w-0 max-[1000px]:text-[11px]"
        >
          {known && account ? `${costText(account)}; ${mendedText(account)}` : 'measuring …'}
        </Button>
      }
    >
      <div className="max-h-[60vh] w-[430px] overflow-y-auto">
        {(Object.keys(KINDS) as Kind[]).map((kind) => (
          <Lines key={kind} kind={kind} />
        ))}
      </div>
    </Popover>
  )
}
