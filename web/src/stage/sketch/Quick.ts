/** When a sketch takes the place of WebGL's picture: while things move and nobody turns the view. */
import type { Object3D, PerspectiveCamera, Scene, WebGLRenderer } from 'three'
import { type Seen, Sketch } from './Sketch'

export class Quick {
  private sketch = new Sketch()
  /** How the views and the floor were in the picture before, and in the one that is kept. */
  private before = ''
  private kept = ''

  constructor(
    private renderer: WebGLRenderer,
    private scene: Scene,
    /** What stands still under all that moves. */
    private still: Object3D,
  ) {
    const { canvas } = this.sketch
    const own = renderer.domElement
    canvas.className = own.className
    canvas.dataset.testid = 'sketch'
    canvas.style.pointerEvents = 'none'
    canvas.hidden = true
    own.after(canvas)
  }

  dispose(): void {
    this.sketch.canvas.remove()
  }

  /** Draw a picture; false where it is WebGL's turn. `standing` says how what stands still looks;
   * `picture` draws all that is visible with WebGL. */
  draw(
    cameras: readonly PerspectiveCamera[],
    standing: string,
    face: (k: number) => void,
    picture: () => void,
  ): boolean {
    const { width, height } = this.renderer.domElement
    for (const camera of cameras) camera.updateMatrixWorld()
    const now = [
      standing,
      width,
      height,
      ...cameras.flatMap((c) => [...c.matrixWorld.elements, ...c.projectionMatrix.elements]),
    ].join(' ')
    const rests = now === this.before
    this.before = now
    if (!rests || !width || !height) return false
    if (now !== this.kept) {
      this.keep(picture)
      this.kept = now
    }
    const each = width / cameras.length
    const views = cameras.map(
      (camera, k): Seen => ({
        camera,
        view: { x: Math.round(k * each), width: Math.round(each) },
      }),
    )
    const moving = this.scene.children.filter((child) => child !== this.still)
    const done = this.sketch.draw(moving, views, this.renderer.getPixelRatio(), face)
    if (done) this.show(true)
    return done
  }

  /** Show the sketch over WebGL's picture, or that one. */
  show(sketch: boolean): void {
    const { canvas } = this.sketch
    if (canvas.hidden !== sketch) return
    canvas.hidden = !sketch
    this.renderer.domElement.style.opacity = sketch ? '0' : ''
  }

  private keep(picture: () => void): void {
    const { domElement } = this.renderer
    const hidden = this.scene.children.filter((child) => child !== this.still && child.visible)
    for (const child of hidden) child.visible = false
    picture()
    for (const child of hidden) child.visible = true
    this.sketch.setGround(domElement, domElement.width, domElement.height)
  }
}
