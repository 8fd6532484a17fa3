/** A part's way: seen from above with its place, and its height over the floor in time. */
import type { Schemas } from '../../api/client'
import type { Clip, Plant } from '../../evaluation/model'

type Path = Schemas['FootPathOut']

const W = 250
const ABOVE = 92
const SIDE = 64
const PAD = 8

const line = (points: readonly (readonly number[])[]) =>
  points.map(([x, y], k) => `${k ? 'L' : 'M'}${x!.toFixed(1)} ${y!.toFixed(1)}`).join('')

export function FootPath({ path, plant, clip }: { path: Path; plant: Plant; clip: Clip }) {
  const mm = clip.reading.metres_per_unit * 1000
  const flat = [0, 1, 2].filter((a) => a !== 'xyz'.indexOf(clip.reading.up_axis))
  const world = !plant.with_joint && !plant.with_prop
  const place = flat.map((a) => plant.place[a]! * mm)
  const held = path.frames.map((f) => f >= plant.first && f <= plant.last)

  // From above: as wide as what happens while it holds, and a little of what leads there.
  const near = path.level_before.filter((_, k) => held[k])
  const seen = world ? [...near, place] : near
  const middle = [0, 1].map(
    (a) => (Math.min(...seen.map((p) => p[a]!)) + Math.max(...seen.map((p) => p[a]!))) / 2,
  )
  const extent = Math.max(
    20,
    ...seen.map((p) => Math.hypot(p[0]! - middle[0]!, p[1]! - middle[1]!)),
  )
  const per = (ABOVE / 2 - PAD) / (1.5 * extent)
  const above = ([x, y]: readonly number[]) =>
    [W / 2 + (x! - middle[0]!) * per, ABOVE / 2 + (y! - middle[1]!) * per] as const

  // From the side: from a little under the floor to twice what it does while it holds.
  const top = Math.max(
    20,
    ...path.height_before.filter((_, k) => held[k]).map((h) => 2 * Math.abs(h)),
  )
  const [from, to] = [path.frames[0]!, path.frames.at(-1)!]
  const x = (f: number) => PAD + ((f - from) / Math.max(1, to - from)) * (W - 2 * PAD)
  const y = (h: number) => SIDE - 14 - (Math.min(h, 1.4 * top) / (1.4 * top)) * (SIDE - 22)
  const side = (heights: readonly number[]) =>
    line(path.frames.map((f, k) => [x(f), y(heights[k]!)] as const))
  const bar = niceLength(60 / per)
  return (
    <figure className="flex flex-col gap-1 rounded-[3px] border border-rule bg-paper p-1">
      <svg viewBox={`0 0 ${W} ${ABOVE}`} role="img" aria-label="Its way seen from above">
        <clipPath id="above">
          <rect width={W} height={ABOVE} />
        </clipPath>
        <g clipPath="url(#above)" fill="none" strokeLinejoin="round">
          <path
            d={line(path.level_before.map(above))}
            className="stroke-ink-3"
            strokeWidth={1.2}
            strokeDasharray="3 2"
          />
          <path d={line(path.level.map(above))} className="stroke-calm" strokeWidth={1.6} />
          {world && <path d={crossAt(above(place))} className="stroke-signal" strokeWidth={1.6} />}
        </g>
        <path
          d={`M${W - PAD - bar * per} ${ABOVE - 5}h${bar * per}`}
          className="stroke-ink-2"
          strokeWidth={1.5}
        />
        <text x={W - PAD} y={ABOVE - 9} textAnchor="end" className="num fill-ink-3 text-[10px]">
          {bar} mm
        </text>
        <text x={4} y={11} className="fill-ink-3 text-[10px]">
          from above
        </text>
      </svg>
      <svg viewBox={`0 0 ${W} ${SIDE}`} role="img" aria-label="Its height over time">
        <rect
          x={x(plant.first)}
          width={Math.max(1, x(plant.last) - x(plant.first))}
          y={0}
          height={SIDE - 14}
          className="fill-sunk"
        />
        <path d={`M${PAD} ${y(0)}H${W - PAD}`} className="stroke-rule-2" strokeWidth={1} />
        <g fill="none" strokeLinejoin="round">
          <path
            d={side(path.height_before)}
            className="stroke-ink-3"
            strokeWidth={1.2}
            strokeDasharray="3 2"
          />
          <path d={side(path.height)} className="stroke-calm" strokeWidth={1.6} />
        </g>
        <text x={W / 2} y={SIDE - 3} textAnchor="middle" className="fill-ink-3 text-[10px]">
          height, at most {top.toFixed(0)} mm
        </text>
        <text x={PAD} y={SIDE - 3} className="num fill-ink-3 text-[10px]">
          {from}
        </text>
        <text x={W - PAD} y={SIDE - 3} textAnchor="end" className="num fill-ink-3 text-[10px]">
          {to}
        </text>
      </svg>
      <figcaption className="px-1 text-[11px] text-ink-3">
        dashed: without plants · whole: with them{world && ' · cross: its place'}
      </figcaption>
    </figure>
  )
}

/** A round length of at most so many millimetres. */
function niceLength(most: number): number {
  const power = 10 ** Math.floor(Math.log10(most))
  return [5, 2, 1].map((k) => k * power).find((v) => v <= most) ?? power
}

const crossAt = ([x, y]: readonly number[]) => `M${x! - 5} ${y}h10M${x} ${y! - 5}v10`
