/** What a tolerance buys: keys against tolerance, with the one in use; a press takes another. */
import { useQuery } from '@tanstack/react-query'
import { answer, client } from '../../api/client'
import { degrees, grouped, millimetres } from '../../ui/numbers'
import { useBench } from '../../view/bench'

const WIDE = 268
const HIGH = 96
const LEFT = 34
const BOTTOM = 16

/** Of the head as it stands before thinning. */
export function useTolerances() {
  const clip = useBench((s) => s.clip)
  // The preview comes first: it is what the panel is looked at for.
  const previewing = useBench((s) => s.previewing)
  const lines = clip?.head.recipe ?? []
  const thin = lines.findIndex((line) => line.operation === 'thin')
  const before = thin < 0 ? lines : lines.slice(0, thin)
  return useQuery({
    queryKey: ['tolerances', clip?.id, JSON.stringify(before)],
    enabled: clip !== null && !previewing,
    staleTime: Number.POSITIVE_INFINITY,
    placeholderData: (old) => old,
    queryFn: () =>
      answer(
        client.GET('/api/clips/{clip_id}/tolerances', {
          params: { path: { clip_id: clip!.id }, query: { revision: clip!.head.id } },
        }),
      ),
  }).data
}

export function Buys({
  inUse,
  perDegree,
  onTake,
}: {
  inUse: number
  /** Millimetres at the ends that a degree of tolerance cost, where it is known. */
  perDegree: number | null
  onTake: (tolerance: number) => void
}) {
  const told = useTolerances()
  if (!told || told.bought.length === 0) return null
  const { bought, noise_deg: noise, proposed_deg: proposed } = told
  const most = Math.max(...bought.map((b) => b.keys))
  const logs = [Math.log(bought[0]!.tolerance_deg), Math.log(bought.at(-1)!.tolerance_deg)] as const
  const x = (t: number) =>
    LEFT + ((Math.log(t) - logs[0]) / (logs[1] - logs[0])) * (WIDE - LEFT - 8)
  const y = (keys: number) => 6 + (1 - keys / most) * (HIGH - BOTTOM - 6)
  const line = (of: 'keys' | 'minimum') =>
    bought.map((b) => `${x(b.tolerance_deg).toFixed(1)},${y(b[of]).toFixed(1)}`).join(' ')
  const within = (t: number) => Math.min(Math.max(x(t), LEFT), WIDE - 8)
  return (
    <figure aria-label="What a tolerance buys" className="flex flex-col gap-1">
      <figcaption className="text-ink-2">Keys against tolerance</figcaption>
      <svg viewBox={`0 0 ${WIDE} ${HIGH}`} className="num w-full max-w-[340px]">
        <title>About as many keys as needed, and the provable minimum</title>
        {[0, 0.5, 1].map((share) => (
          <g key={share}>
            <line
              x1={LEFT}
              x2={WIDE - 8}
              y1={y(share * most)}
              y2={y(share * most)}
              stroke="var(--rule)"
            />
            <text
              x={LEFT - 4}
              y={y(share * most) + 3}
              textAnchor="end"
              fontSize="9"
              fill="var(--ink-3)"
            >
              {most * share >= 1000
                ? `${((most * share) / 1000).toFixed(most < 1e4 ? 1 : 0)}k`
                : Math.round(most * share)}
            </text>
          </g>
        ))}
        {noise > bought[0]!.tolerance_deg / 8 && (
          <rect
            x={LEFT}
            y={6}
            width={Math.max(within(4 * noise) - LEFT, 1)}
            height={HIGH - BOTTOM - 6}
            fill="var(--sunk)"
          />
        )}
        <polyline
          points={line('minimum')}
          fill="none"
          stroke="var(--ink-3)"
          strokeDasharray="3 3"
        />
        <polyline points={line('keys')} fill="none" stroke="var(--ink)" strokeWidth="1.5" />
        <line
          x1={within(inUse)}
          x2={within(inUse)}
          y1={4}
          y2={HIGH - BOTTOM}
          stroke="var(--signal)"
        />
        {bought.map((b) => (
          <g key={b.tolerance_deg}>
            <circle cx={x(b.tolerance_deg)} cy={y(b.keys)} r={2.5} fill="var(--ink)" />
            <text
              x={x(b.tolerance_deg)}
              y={HIGH - 4}
              textAnchor="middle"
              fontSize="9"
              fill="var(--ink-3)"
            >
              {[0.05, 0.25, 1, 4].includes(b.tolerance_deg) ? `${b.tolerance_deg}°` : ''}
            </text>
            {/* biome-ignore lint/a11y/useSemanticElements: a button has no place inside a drawing */}
            <rect
              role="button"
              tabIndex={0}
              aria-label={`Take ${b.tolerance_deg}°: about ${b.keys} keys`}
              x={x(b.tolerance_deg) - 10}
              y={0}
              width={20}
              height={HIGH}
              fill="transparent"
              className="cursor-pointer"
              onClick={() => onTake(b.tolerance_deg)}
              onKeyDown={(e) => e.key === 'Enter' && onTake(b.tolerance_deg)}
            >
              <title>
                {`${b.tolerance_deg}°: about ${grouped(b.keys)} keys, at least ${grouped(b.minimum)}${
                  perDegree === null
                    ? ''
                    : `, about ${millimetres(perDegree * b.tolerance_deg)} at the ends`
                }`}
              </title>
            </rect>
          </g>
        ))}
      </svg>
      <p className="text-[12px] text-ink-2">
        Solid: about as many as needed. Dashed: the provable minimum. The take’s noise is{' '}
        <span className="num">{degrees(noise)}</span>: it proposes{' '}
        {proposed === inUse ? (
          <>
            <span className="num">{proposed}°</span>, in use.
          </>
        ) : (
          <button
            type="button"
            className="num underline decoration-rule-2 underline-offset-2 hover:decoration-ink"
            onClick={() => onTake(proposed)}
          >
            {proposed}°
          </button>
        )}
      </p>
    </figure>
  )
}
