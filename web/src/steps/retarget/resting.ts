/** A figure's rest as it is turned by hand, and how a drag in a picture of it turns a joint. */
import type { Schemas } from '../../api/client'
import { add, sub, type Vec } from '../../evaluation/limb'
import { inverse, multiply, type Quat, rotate, turned, turnOf } from '../../evaluation/rotations'
import type { Turn } from '../../sync/retargeting'

type Figure = Schemas['FigureOut']

/** From where it is seen: which of left, up and forward go right and up, and towards whom looks. */
export const VIEWS = {
  front: { right: [0, 1], axis: [0, 0, 1] },
  side: { right: [2, -1], axis: [1, 0, 0] },
} as const
export type View = keyof typeof VIEWS

const STILL: Quat = [0, 0, 0, 1]

function exp(vector: Turn | undefined): Quat {
  const angle = vector ? Math.hypot(...vector) : 0
  return angle < 1e-9 ? STILL : turned(vector!.map((v) => v / angle) as Vec, angle)
}

/** Each joint's turn from its rest, all above it included: the core's `rest_turns`. */
function wholes({ names, parents }: Figure, rest: Record<string, Turn>): Quat[] {
  const out: Quat[] = []
  names.forEach((name, k) => {
    const above = parents[k]! < 0 ? STILL : out[parents[k]!]!
    out.push(multiply(above, exp(rest[name])))
  })
  return out
}

/** The joints' places with what is turned by hand turned. */
export function turnedPoints(figure: Figure, rest: Record<string, Turn>): Vec[] {
  const points = figure.points as Vec[]
  if (!Object.keys(rest).length) return points
  const whole = wholes(figure, rest)
  const out: Vec[] = []
  figure.parents.forEach((parent, k) => {
    if (parent < 0) out.push(points[k]!)
    else out.push(add(out[parent]!, rotate(whole[parent]!, sub(points[k]!, points[parent]!))))
  })
  return out
}

/** A joint's turn by hand after it was turned further by degrees about the axis of a view. */
export function turnedFurther(
  figure: Figure,
  rest: Record<string, Turn>,
  name: string,
  view: View,
  degrees: number,
): Turn {
  const k = figure.names.indexOf(name)
  const parent = figure.parents[k]!
  const above = parent < 0 ? STILL : wholes(figure, rest)[parent]!
  const by = multiply(inverse(above), multiply(turned(VIEWS[view].axis, degrees), above))
  return turnOf(multiply(by, exp(rest[name]))).map((v) => Math.round(v * 10) / 10) as Turn
}
