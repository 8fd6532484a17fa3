/** A motion in small: a row of drawn figures, or the one of a pose. */
import type { Schemas } from '../api/client'
import { tapered } from './drawn'

/** A closed line through points x, y in turn, y up. */
function ring(points: readonly number[]): string {
  const at = Array.from(
    { length: points.length / 2 },
    (_, k) => `${points[2 * k]} ${-points[2 * k + 1]!}`,
  )
  return `M${at.join('L')}Z`
}

const GAP = 0.5 // between figures, in figure heights

export function Picture({
  picture,
  className,
}: {
  picture: Schemas['PictureOut']
  className: string
}) {
  const { figures, outlines } = picture
  const width = Math.max(0, figures.length - 1) * GAP + 1
  return (
    <svg
      viewBox={`-0.5 -1.08 ${width} 1.16`}
      className={`w-full bg-paper ${className}`}
      role="img"
      aria-label="Poses of the motion"
    >
      <path d={`M-9 0.02H${width + 9}`} className="stroke-rule-2" strokeWidth={0.008} />
      {outlines.length > 0 && (
        <path
          d={outlines.map(ring).join('')}
          className="fill-raised stroke-ink"
          fillRule="evenodd"
          strokeWidth={0.012}
          strokeLinejoin="round"
        />
      )}
      {figures.map((shapes, k) => {
        const paths = shapes.map(([x1, y1, r1, x2, y2, r2]) =>
          tapered(x1! + k * GAP, -y1!, r1!, x2! + k * GAP, -y2!, r2!),
        )
        return (
          // biome-ignore lint/suspicious/noArrayIndexKey: a row of figures, in order
          <g key={k} className="stroke-ink" strokeLinejoin="round">
            {/* The outline of the whole body first, then its parts with finer lines. */}
            <path d={paths.join('')} strokeWidth={0.026} />
            {paths.map((path, n) => (
              <path
                // biome-ignore lint/suspicious/noArrayIndexKey: shapes of a still picture
                key={n}
                d={path}
                strokeWidth={0.005}
                className={shapes[n]![6] ? 'fill-sunk' : 'fill-raised'}
              />
            ))}
          </g>
        )
      })}
    </svg>
  )
}
