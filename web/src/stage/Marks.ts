/** Round marks at joints on the stage. */
import {
  type BufferAttribute,
  BufferGeometry,
  CanvasTexture,
  Float32BufferAttribute,
  Points,
  PointsMaterial,
} from 'three'
import type { WorldPose } from '../evaluation/poses'
import { token } from '../ui/theme'

/** Round marks at joints: what is found wrong there now. */
export class Marks {
  readonly points: Points
  private material: PointsMaterial

  constructor(joints: number) {
    const geometry = new BufferGeometry()
    geometry.setAttribute('position', new Float32BufferAttribute(new Float32Array(3 * joints), 3))
    geometry.setDrawRange(0, 0)
    this.material = new PointsMaterial({ size: 11, sizeAttenuation: false, map: ring() })
    this.material.transparent = true
    this.material.depthTest = false
    this.points = new Points(geometry, this.material)
    this.points.frustumCulled = false
    this.points.renderOrder = 2
  }

  show(world: WorldPose, joints: readonly number[]): void {
    const position = this.points.geometry.getAttribute('position') as BufferAttribute
    joints.forEach((joint, k) => {
      const [x, y, z] = world.position.slice(3 * joint, 3 * joint + 3)
      position.setXYZ(k, x!, y!, z!)
    })
    position.needsUpdate = true
    this.points.geometry.setDrawRange(0, joints.length)
    this.material.color.set(token('bad'))
  }

  dispose(): void {
    this.points.geometry.dispose()
    this.material.map?.dispose()
    this.material.dispose()
  }
}

/** A ring as a texture: its colour is the material's. */
function ring(): CanvasTexture {
  const canvas = document.createElement('canvas')
  canvas.width = canvas.height = 32
  const g = canvas.getContext('2d')!
  g.strokeStyle = '#fff'
  g.lineWidth = 7
  g.arc(16, 16, 11, 0, 2 * Math.PI)
  g.stroke()
  return new CanvasTexture(canvas)
}
