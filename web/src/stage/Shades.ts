/** A shade under each sole: it grows darker as the sole nears the floor. */
import { CircleGeometry, Color, Group, Mesh, MeshBasicMaterial, type Vector3 } from 'three'
import { token } from '../ui/theme'

/** Metres above the floor from which a sole casts none. */
const NEAR = 0.12
const RADIUS = 0.105
const DARKEST = 0.22

export class Shades {
  readonly group = new Group()
  private discs: Mesh[] = []

  /** Soles in metres, up being Y, each with the height of its lowest point. */
  show(soles: readonly { at: Vector3; height: number }[]): void {
    while (this.discs.length < soles.length) {
      const material = new MeshBasicMaterial({ transparent: true, depthWrite: false })
      const disc = new Mesh(new CircleGeometry(RADIUS, 24), material)
      disc.rotation.x = -Math.PI / 2
      this.discs.push(disc)
      this.group.add(disc)
    }
    this.discs.forEach((disc, k) => {
      const sole = soles[k]
      const near = sole ? Math.min(Math.max(1 - sole.height / NEAR, 0), 1) : 0
      disc.visible = near > 0.02
      if (!sole || !disc.visible) return
      disc.position.set(sole.at.x, 0.003, sole.at.z)
      disc.scale.setScalar(1.3 - 0.3 * near)
      const material = disc.material as MeshBasicMaterial
      material.opacity = DARKEST * near * near
      material.color = new Color(token('ink'))
    })
  }

  dispose(): void {
    for (const disc of this.discs) {
      disc.geometry.dispose()
      ;(disc.material as MeshBasicMaterial).dispose()
    }
  }
}
