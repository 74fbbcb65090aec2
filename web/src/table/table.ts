import * as THREE from 'three'
import { pickFlat, SELECTED, type Hit, type Piece } from '../scene/pieces'
import { View } from '../scene/view'
import { Overlay, type Marks } from './overlay'
import { CROSS, EDGE, EDGE_VERTEX, FILL, FILL_VERTEX } from './shaders'

interface Events {
  picked: (hit: Hit | null, add: boolean) => void
  boxed: (islands: [file: number, island: number][], add: boolean) => void
}

/** Draws the islands flat: padding zone, patches and outlines, three draw calls a file. */
export class Table extends View {
  private readonly camera = new THREE.OrthographicCamera(-1, 1, 1, -1, -1, 1)
  private readonly content = new THREE.Group()
  private readonly overlay: Overlay
  private readonly cross = crossHatch()
  private pieces: Piece[] = []
  private materials: THREE.ShaderMaterial[] = []
  private centre = new THREE.Vector2(0.5, 0.5)
  private span = 1.15
  private zone = 0
  private margin = 0

  constructor(
    host: HTMLElement,
    private readonly events: Events,
  ) {
    super(host)
    this.overlay = new Overlay(host)
    this.scene.add(this.content, tile(), this.cross)
    this.listen()
  }

  setPieces(pieces: Piece[]): void {
    this.pieces = pieces
    this.content.clear()
    for (const m of this.materials) m.dispose()
    this.materials = []
    for (const p of pieces) {
      this.layer(p, p.outline, -1, EDGE_VERTEX, EDGE)
      const fill = this.layer(p, p.flat, 0, FILL_VERTEX, FILL)
      // Every patch counts itself, so that what is covered twice can be told.
      Object.assign(fill, {
        stencilWrite: true,
        stencilFunc: THREE.AlwaysStencilFunc,
        stencilZPass: THREE.IncrementStencilOp,
      })
      this.layer(p, p.outline, 1, EDGE_VERTEX, EDGE)
    }
    this.draw()
  }

  private layer(p: Piece, geometry: THREE.BufferGeometry, order: number, vertexShader: string, fragmentShader: string) {
    const uniforms: Record<string, THREE.IUniform> = {
      transforms: { value: p.transforms },
      looks: { value: p.looks },
      pixel: { value: 1 },
      zone: { value: 0 },
      density: { value: 0 },
      marks: { value: 1 },
      band: { value: 0.14 },
    }
    const material = new THREE.ShaderMaterial({
      glslVersion: THREE.GLSL3,
      vertexShader,
      fragmentShader,
      side: THREE.DoubleSide,
      depthTest: false,
      depthWrite: false,
      transparent: order > 0,
      uniforms,
    })
    material.userData.zone = order < 0
    const thing = new THREE.Mesh(geometry, material)
    thing.frustumCulled = false
    thing.renderOrder = order
    this.content.add(thing)
    this.materials.push(material)
    return material
  }

  /** Padding and margin as shares of the tile. */
  setGaps(padding: number, margin: number): void {
    this.zone = padding / 2
    this.margin = margin
    this.draw()
  }

  /** What the patches show, and which marks are drawn. */
  setLook(density: boolean, band: number, hatch: boolean, overlaps: boolean): void {
    for (const m of this.materials) {
      m.uniforms.density.value = density ? 1 : 0
      m.uniforms.band.value = band
      m.uniforms.marks.value = hatch ? 1 : 0
    }
    this.cross.visible = overlaps
    this.draw()
  }

  setMarks(marks: Marks): void {
    this.overlay.marks = marks
    this.draw()
  }

  fit(): void {
    this.centre.set(0.5, 0.5)
    this.span = 1.15
    this.draw()
  }

  /** Show a part of the sheet. */
  show(box: THREE.Box2): void {
    if (box.isEmpty()) return
    box.getCenter(this.centre)
    const size = box.getSize(new THREE.Vector2())
    this.span = Math.max(0.02, 1.6 * Math.max(size.x, size.y))
    this.draw()
  }

  /** Show the selected islands. */
  showSelected(): void {
    const box = new THREE.Box2()
    for (const p of this.pieces) for (let i = 0; i < p.islands; i++) if (p.mark(i) & SELECTED) box.union(p.box(i))
    this.show(box)
  }

  protected aim(): THREE.Camera {
    const { clientWidth: w, clientHeight: h } = this.host
    const unit = this.span / Math.min(w, h)
    Object.assign(this.camera, {
      left: this.centre.x - (unit * w) / 2,
      right: this.centre.x + (unit * w) / 2,
      top: this.centre.y + (unit * h) / 2,
      bottom: this.centre.y - (unit * h) / 2,
    })
    this.camera.updateProjectionMatrix()
    for (const m of this.materials) {
      m.uniforms.pixel.value = unit
      if (m.userData.zone) {
        m.uniforms.zone.value = this.zone
        // Thinner than a pixel it would only cost time.
        m.visible = this.zone > 0.8 * unit
      }
    }
    return this.camera
  }

  protected override over(): void {
    this.overlay.draw(this.centre, this.span, this.margin)
  }

  private at(e: MouseEvent): THREE.Vector2 {
    const box = this.host.getBoundingClientRect()
    const unit = this.span / Math.min(box.width, box.height)
    return new THREE.Vector2(
      this.centre.x + (e.clientX - box.left - box.width / 2) * unit,
      this.centre.y - (e.clientY - box.top - box.height / 2) * unit,
    )
  }

  private within(box: THREE.Box2): [number, number][] {
    const found: [number, number][] = []
    for (const p of this.pieces)
      for (let i = 0; i < p.islands; i++) if (box.intersectsBox(p.box(i))) found.push([p.file, i])
    return found
  }

  private listen(): void {
    let from: THREE.Vector2 | null = null
    let moved = 0
    let boxing = false
    const element = this.renderer.domElement
    element.addEventListener('pointerdown', (e) => {
      element.setPointerCapture(e.pointerId)
      from = this.at(e)
      moved = 0
      boxing = e.shiftKey && e.button === 0
    })
    element.addEventListener('pointermove', (e) => {
      if (!from) return
      moved += Math.abs(e.movementX) + Math.abs(e.movementY)
      if (moved < 4) return
      if (boxing) this.overlay.box = new THREE.Box2().setFromPoints([from, this.at(e)])
      else this.centre.add(from).sub(this.at(e))
      this.draw()
    })
    element.addEventListener('pointerup', (e) => {
      const add = e.ctrlKey || e.metaKey || (e.shiftKey && !this.overlay.box)
      if (this.overlay.box) this.events.boxed(this.within(this.overlay.box), e.ctrlKey || e.metaKey)
      else if (from && moved < 4) {
        const p = this.at(e)
        this.events.picked(pickFlat(this.pieces, p.x, p.y), add)
      }
      from = this.overlay.box = null
      this.draw()
    })
    element.addEventListener(
      'wheel',
      (e) => {
        e.preventDefault()
        const before = this.at(e)
        this.span = Math.min(1000, Math.max(0.001, this.span * Math.exp(e.deltaY * 0.0015)))
        this.centre.add(before).sub(this.at(e))
        this.draw()
      },
      { passive: false },
    )
  }

  override dispose(): void {
    this.overlay.dispose()
    for (const m of this.materials) m.dispose()
    super.dispose()
  }
}

/** A cloth square; its stitched border and number are drawn by the overlay. */
function tile(): THREE.Object3D {
  const material = new THREE.MeshBasicMaterial({ color: '#fdfaf3', depthTest: false })
  const cloth = new THREE.Mesh(new THREE.PlaneGeometry(1, 1), material)
  cloth.position.set(0.5, 0.5, 0)
  cloth.renderOrder = -2
  return cloth
}

function crossHatch(): THREE.Mesh {
  const material = new THREE.ShaderMaterial({
    glslVersion: THREE.GLSL3,
    vertexShader: 'void main() { gl_Position = vec4(position.xy, 0.0, 1.0); }',
    fragmentShader: CROSS,
    depthTest: false,
    transparent: true,
    stencilWrite: true,
    stencilFunc: THREE.LessStencilFunc,
    stencilRef: 1,
    stencilWriteMask: 0,
  })
  const mesh = new THREE.Mesh(new THREE.PlaneGeometry(2, 2), material)
  mesh.frustumCulled = false
  mesh.renderOrder = 0.5
  return mesh
}
