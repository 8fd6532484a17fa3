/** The drawn figure flat: two circles and what lies between them, as a path of a picture. */

/** A tapered shape from one circle to another, in the picture's units, y down. */
export function tapered(
  x1: number,
  y1: number,
  r1: number,
  x2: number,
  y2: number,
  r2: number,
): string {
  const distance = Math.hypot(x2 - x1, y2 - y1)
  const text = (...numbers: number[]) => numbers.map((v) => v.toFixed(3)).join(' ')
  if (distance <= Math.abs(r1 - r2) + 1e-6) {
    const [x, y, r] = r1 >= r2 ? [x1, y1, r1] : [x2, y2, r2]
    return `M${text(x - r, y)}a${text(r, r)} 0 1 1 ${text(2 * r, 0)}a${text(r, r)} 0 1 1 ${text(-2 * r, 0)}Z`
  }
  // The outer tangents touch both circles at the same angle from the line between them.
  const along = Math.atan2(y2 - y1, x2 - x1)
  const open = Math.acos((r1 - r2) / distance)
  const on = (x: number, y: number, r: number, side: 1 | -1) =>
    text(x + r * Math.cos(along + side * open), y + r * Math.sin(along + side * open))
  const wide = (more: boolean) => (more ? 1 : 0)
  return [
    `M${on(x1, y1, r1, 1)}`,
    `A${text(r1, r1)} 0 ${wide(open < Math.PI / 2)} 1 ${on(x1, y1, r1, -1)}`,
    `L${on(x2, y2, r2, -1)}`,
    `A${text(r2, r2)} 0 ${wide(open > Math.PI / 2)} 1 ${on(x2, y2, r2, 1)}Z`,
  ].join('')
}
