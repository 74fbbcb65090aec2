import * as THREE from 'three'
import { Owner } from './owner'

/** A canvas that draws when it is asked to, never on its own. */
export abstract class View {
  protected readonly renderer: THREE.WebGLRenderer
  protected readonly scene = new THREE.Scene()
  protected readonly owned = new Owner()
  private readonly watch: ResizeObserver
  private asked = 0

  constructor(protected readonly host: HTMLElement) {
    this.renderer = new THREE.WebGLRenderer({
      antialias: true,
      alpha: true,
      stencil: true,
      preserveDrawingBuffer: true,
    })
    this.renderer.setPixelRatio(devicePixelRatio)
    Object.assign(this.renderer.domElement.style, { position: 'absolute', inset: '0' })
    host.append(this.renderer.domElement)
    this.watch = new ResizeObserver(() => this.draw())
    this.watch.observe(host)
  }

  /** The camera for the size that the host has now. */
  protected abstract aim(): THREE.Camera

  /** What is drawn over the picture. */
  protected over(): void {}

  draw(): void {
    if (this.asked) return
    this.asked = requestAnimationFrame(() => {
      this.asked = 0
      const { clientWidth: w, clientHeight: h } = this.host
      if (!w || !h) return
      const size = this.renderer.getSize(new THREE.Vector2())
      if (size.x !== w || size.y !== h) this.renderer.setSize(w, h)
      this.renderer.render(this.scene, this.aim())
      this.over()
    })
  }

  dispose(): void {
    cancelAnimationFrame(this.asked)
    this.watch.disconnect()
    this.owned.release()
    this.renderer.dispose()
    this.renderer.domElement.remove()
  }
}
