/** Two figures at rest, side by side, with a line from each joint to the one that gives it its turn. */
import type { Schemas } from '../../api/client'

type Figure = Schemas['FigureOut']
type Link = Schemas['LinkOut']

const WIDTH = 320
const HEIGHT = 190
const PAD = 10

/** Where a figure's joints are in the picture: seen from the front, its feet on one line. */
function placed({ points }: Figure, middle: number, scale: number) {
  const low = Math.min(...points.map((p) => p[1]!))
  const centre = points[0]?.[0] ?? 0
  return points.map((p): [number, number] => [
    middle - (p[0]! - centre) * scale,
    HEIGHT - PAD - (p[1]! - low) * scale,
  ])
}

/** How far a figure reaches to either side of its root. */
const halfWidth = ({ points }: Figure) =>
  Math.max(...points.map((p) => Math.abs(p[0]! - (points[0]?.[0] ?? 0))))

/** How firmly a line is drawn: what is sure in full ink. */
const weight = ({ word }: Link) => (word === 'sure' ? 0.8 : word === 'likely' ? 1.1 : 1.6)

export function MapPicture({
  map,
  chosen,
  source,
  onTarget,
  onSource,
}: {
  map: Schemas['MapOut']
  /** The target joint that is looked at. */
  chosen: string | null
  /** A source joint that was pressed and waits for its target. */
  source: string | null
  onTarget: (name: string) => void
  onSource: (name: string) => void
}) {
  const both = [map.source, map.target]
  const tall = Math.max(...both.map((f) => f.height), 1e-6)
  const wide = Math.max(...both.map(halfWidth), 1e-6)
  const scale = Math.min((HEIGHT - 2 * PAD) / tall, (WIDTH / 4 - PAD / 2) / wide)
  const left = placed(map.source, WIDTH * 0.25, scale)
  const right = placed(map.target, WIDTH * 0.75, scale)
  const index = new Map(map.source.names.map((name, k) => [name, k]))
  const aim = new Map(map.target.names.map((name, k) => [name, k]))
  const lines = map.links.flatMap((link) => {
    const to = right[aim.get(link.target)!]!
    return link.sources.map((name, k) => ({ link, name, k, from: left[index.get(name)!]!, to }))
  })
  const shown = (link: Link) => link.target === chosen || link.word === 'doubtful'
  const drawn = (
    among: (link: Link) => boolean,
    ink: (link: Link) => string,
    wide: (link: Link) => number,
  ) =>
    lines
      .filter(({ link }) => among(link))
      .map(({ link, name, from, to }) => (
        <line
          key={`${link.target}/${name}`}
          x1={from[0]}
          y1={from[1]}
          x2={to[0]}
          y2={to[1]}
          className={ink(link)}
          strokeWidth={wide(link)}
        />
      ))
  const bones = (figure: Figure, at: [number, number][]) =>
    figure.parents.flatMap((parent, k) =>
      parent < 0
        ? []
        : [
            <line
              key={figure.names[k]}
              x1={at[parent]![0]}
              y1={at[parent]![1]}
              x2={at[k]![0]}
              y2={at[k]![1]}
              className="stroke-ink-3"
              strokeWidth={1.5}
            />,
          ],
    )
  const dots = (
    figure: Figure,
    at: [number, number][],
    lit: (name: string) => boolean,
    press: (name: string) => void,
  ) =>
    figure.names.map((name, k) => (
      // biome-ignore lint/a11y/noStaticElementInteractions: the table beside it does the same by keyboard
      <circle
        key={name}
        cx={at[k]![0]}
        cy={at[k]![1]}
        r={lit(name) ? 4.5 : 2.6}
        className={`cursor-pointer ${lit(name) ? 'fill-signal' : 'fill-ink'}`}
        onClick={() => press(name)}
      >
        <title>{name}</title>
      </circle>
    ))
  const giving = new Set(map.links.find((l) => l.target === chosen)?.sources ?? [])
  return (
    <figure className="m-0 shrink-0">
      <svg
        viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
        className="w-full rounded-[3px] border border-rule bg-paper"
        role="img"
        aria-label="The clip's figure and the other, with a line from joint to joint"
      >
        {drawn(
          (link) => !shown(link),
          () => 'stroke-rule-2',
          () => 0.5,
        )}
        {bones(map.source, left)}
        {bones(map.target, right)}
        {drawn(shown, (link) => (link.target === chosen ? 'stroke-signal' : 'stroke-ink'), weight)}
        {dots(map.source, left, (n) => n === source || giving.has(n), onSource)}
        {dots(map.target, right, (n) => n === chosen, onTarget)}
      </svg>
      <figcaption className="mt-1 flex justify-between text-[12px] text-ink-3">
        <span>this clip</span>
        <span>press one on either side</span>
        <span>the other</span>
      </figcaption>
    </figure>
  )
}
