/** Two figures at rest, side by side, with a line from each joint to the one that gives it its turn. */
import { type PointerEvent, useRef, useState } from 'react'
import type { Schemas } from '../../api/client'
import type { Vec } from '../../evaluation/limb'
import { useRetargeting, wish } from '../../sync/retargeting'
import { Toggle } from '../../ui/controls'
import { turnedFurther, turnedPoints, VIEWS, type View } from './resting'

type Figure = Schemas['FigureOut']
type Link = Schemas['LinkOut']

const WIDTH = 320
const HEIGHT = 190
const PAD = 10

/** Where a figure's joints are in the picture: its feet on one line. */
function placed(points: Vec[], low: number, middle: number, scale: number, view: View) {
  const [axis, sign] = VIEWS[view].right
  const centre = points[0]?.[axis] ?? 0
  return points.map((p): [number, number] => [
    middle + sign * (p[axis] - centre) * scale,
    HEIGHT - PAD - (p[1] - low) * scale,
  ])
}

const lowest = (points: Vec[]) => Math.min(...points.map((p) => p[1]))

/** How far a figure reaches to either side of its root, from whichever side it is seen. */
const halfWidth = (points: Vec[]) =>
  Math.max(...points.map((p) => Math.max(...[0, 2].map((k) => Math.abs(p[k]! - points[0]![k]!)))))

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
  const rest = useRetargeting((s) => s.wishes.rest)
  const [view, setView] = useState<View>('front')
  const svg = useRef<SVGSVGElement>(null)
  /** Where the picture stood when the drag of a bone began, for rows above it come and go, the angle
   * it began at and what was turned by hand then. */
  const drag = useRef<{ box: DOMRect; angle: number; rest: typeof rest } | null>(null)
  const [ours, theirs] = [map.source.points, map.target.points] as [Vec[], Vec[]]
  const turnedOnes = turnedPoints(map.target, rest)
  const tall = Math.max(map.source.height, map.target.height, 1e-6)
  const wide = Math.max(halfWidth(ours), halfWidth(theirs), 1e-6)
  const scale = Math.min((HEIGHT - 2 * PAD) / tall, (WIDTH / 4 - PAD / 2) / wide)
  const left = placed(ours, lowest(ours), WIDTH * 0.25, scale, view)
  const right = placed(turnedOnes, lowest(theirs), WIDTH * 0.75, scale, view)
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
  const at = chosen === null ? undefined : aim.get(chosen)
  /** The pointer's direction from the chosen joint, degrees, counter-clockwise. */
  const angleOf = (e: PointerEvent, box: DOMRect) => {
    const [x, y] = right[at!]!
    const dx = ((e.clientX - box.left) * WIDTH) / box.width - x
    const dy = ((e.clientY - box.top) * HEIGHT) / box.height - y
    return (Math.atan2(-dy, dx) * 180) / Math.PI
  }
  const grab = (e: PointerEvent) => {
    e.currentTarget.setPointerCapture(e.pointerId)
    const box = svg.current!.getBoundingClientRect()
    drag.current = { box, angle: angleOf(e, box), rest }
  }
  const swing = (e: PointerEvent) => {
    if (!drag.current) return
    const by = angleOf(e, drag.current.box) - drag.current.angle
    const turn = turnedFurther(map.target, drag.current.rest, chosen!, view, by)
    const { [chosen!]: _, ...others } = drag.current.rest
    wish({ rest: turn.every((v) => v === 0) ? others : { ...others, [chosen!]: turn } })
  }
  const letGo = () => {
    drag.current = null
  }
  const handles =
    at === undefined
      ? []
      : map.target.parents.flatMap((parent, k) =>
          parent === at && Math.hypot(...right[k]!.map((v, n) => v - right[at]![n]!)) > 2
            ? [{ name: map.target.names[k]!, to: right[k]! }]
            : [],
        )
  const giving = new Set(map.links.find((l) => l.target === chosen)?.sources ?? [])
  return (
    <figure className="m-0 shrink-0">
      <svg
        ref={svg}
        viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
        className="w-full rounded-[3px] border border-rule bg-paper"
        role="img"
        aria-label="The source figure and the target, with a line from joint to joint"
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
        {handles.map(({ name, to }) => (
          <line
            key={name}
            data-testid={`swing-${name}`}
            x1={right[at!]![0] + 0.35 * (to[0] - right[at!]![0])}
            y1={right[at!]![1] + 0.35 * (to[1] - right[at!]![1])}
            x2={to[0]}
            y2={to[1]}
            className="cursor-grab touch-none stroke-signal/40"
            strokeWidth={7}
            strokeLinecap="round"
            onPointerDown={grab}
            onPointerMove={swing}
            onPointerUp={letGo}
            onPointerCancel={letGo}
          >
            <title>{`Drag to turn ${chosen} at rest`}</title>
          </line>
        ))}
      </svg>
      <figcaption className="mt-1 flex items-center justify-between gap-1 text-[12px] text-ink-3">
        <span>source</span>
        <span className="flex gap-1">
          {(Object.keys(VIEWS) as View[]).map((name) => (
            <Toggle
              key={name}
              on={view === name}
              className="h-6 px-1.5"
              onClick={() => setView(name)}
            >
              {name === 'front' ? 'Front' : 'Side'}
            </Toggle>
          ))}
        </span>
        <span>target</span>
      </figcaption>
      <p className="text-[12px] text-ink-3">
        {chosen === null
          ? 'Press a joint on either side.'
          : handles.length
            ? `Drag the bone below ${chosen} to turn it at rest.`
            : `${chosen} carries no bone that could be turned here.`}
      </p>
    </figure>
  )
}
