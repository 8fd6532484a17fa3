/** An arrow at a joint: along the axis that a channel moves along, with an arc where it turns. */
import {
  BufferGeometry,
  Float32BufferAttribute,
  Group,
  LineBasicMaterial,
  LineSegments,
  Quaternion,
  Vector3,
} from 'three'

const ARC = 26

/** Along +Y, its shaft a unit long; the arc three quarters round, with a head of its own. */
function lines(turns: boolean): number[] {
  const out: number[] = [0, -0.25, 0, 0, 1, 0]
  for (const [x, z] of [
    [0.07, 0],
    [-0.07, 0],
    [0, 0.07],
    [0, -0.07],
  ] as const)
    out.push(0, 1, 0, x, 0.85, z)
  if (!turns) return out
  const at = (i: number) => {
    const angle = (1.5 * Math.PI * i) / ARC
    // Turns are right-handed: from Z towards X about Y.
    return [0.42 * Math.sin(angle), 0.45, 0.42 * Math.cos(angle)] as const
  }
  for (let i = 0; i < ARC; i++) out.push(...at(i), ...at(i + 1))
  const [x, y, z] = at(ARC)
  out.push(x, y, z, x - 0.1, y, z - 0.1, x, y, z, x + 0.1, y, z - 0.1)
  return out
}

export class AxisArrow {
  readonly group = new Group()
  private material = new LineBasicMaterial({ depthTest: false, transparent: true })
  private shapes = [false, true].map((turns) => {
    const geometry = new BufferGeometry()
    geometry.setAttribute('position', new Float32BufferAttribute(lines(turns), 3))
    const shape = new LineSegments(geometry, this.material)
    shape.renderOrder = 3
    shape.frustumCulled = false
    return shape
  })

  constructor() {
    this.group.add(...this.shapes)
    this.hide()
  }

  hide(): void {
    this.group.visible = false
  }

  show(from: Vector3, axis: Vector3, turns: boolean, length: number, colour: string): void {
    this.group.visible = true
    this.group.position.copy(from)
    this.group.quaternion.copy(new Quaternion().setFromUnitVectors(new Vector3(0, 1, 0), axis))
    this.group.scale.setScalar(length)
    this.material.color.set(colour)
    this.shapes[0]!.visible = !turns
    this.shapes[1]!.visible = turns
  }

  dispose(): void {
    for (const shape of this.shapes) shape.geometry.dispose()
    this.material.dispose()
  }
}
