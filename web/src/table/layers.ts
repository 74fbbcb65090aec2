import * as THREE from 'three'
import type { Owner } from '../scene/owner'
import { wiresOf, type Piece } from '../scene/pieces'
import { EDGE, EDGE_VERTEX, FILL, FILL_VERTEX, WIRE } from './shaders'

/** What lies on the table of each file: padding zone, patches and outlines, and on demand the edges between faces. */
export class Layers extends THREE.Group {
  private materials: THREE.ShaderMaterial[] = []
  private pieces: Piece[] = []
  private wires: THREE.LineSegments[] | null = null
  private wired = false
  /** What all shaders are given, also those of layers that come later. */
  private readonly given = { density: 0, marks: 1, band: 0.14, opacity: 1, night: 0 }

  constructor(private readonly owned: Owner) {
    super()
  }

  set(pieces: Piece[]): void {
    this.pieces = pieces
    this.clear()
    this.owned.release('layers')
    this.materials = []
    this.wires = null
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
    this.showWires(this.wired)
  }

  /** Whether the edges between faces are drawn; they are made when they are first asked for. */
  showWires(on: boolean): void {
    this.wired = on
    if (on) this.wires ??= this.pieces.map((p) => this.wire(p))
    for (const w of this.wires ?? []) w.visible = on
  }

  /** Give all layers a value of what their shaders ask for. */
  put(name: 'opacity' | 'density' | 'band' | 'marks' | 'night', value: number): void {
    this.given[name] = value
    for (const m of this.materials) if (m.uniforms[name]) m.uniforms[name].value = value
  }

  /** Fit the layers to a view: a pixel of the screen in UV, half of the padding in px, and how wide that is at most. */
  fit(pixel: number, zone: number, most: number): void {
    for (const m of this.materials) {
      if (!m.uniforms.pixel) continue
      m.uniforms.pixel.value = pixel
      if (!m.userData.zone) continue
      m.uniforms.zone.value = zone
      // Thinner than a pixel it would only cost time.
      m.visible = most > 0.8 * pixel
    }
  }

  private layer(p: Piece, geometry: THREE.BufferGeometry, order: number, vertex: string, fragment: string) {
    const material = this.material(p, vertex, fragment, { pixel: 1, zone: 0, ...this.given })
    material.userData.zone = order < 0
    this.lay(new THREE.Mesh(geometry, material), order)
    return material
  }

  private wire(p: Piece): THREE.LineSegments {
    const geometry = this.owned.own('layers', wiresOf(p))
    return this.lay(
      new THREE.LineSegments(geometry, this.material(p, FILL_VERTEX, WIRE, { night: this.given.night })),
      0.7,
    )
  }

  private lay<T extends THREE.Object3D>(thing: T, order: number): T {
    thing.frustumCulled = false
    thing.renderOrder = order
    this.add(thing)
    return thing
  }

  private material(p: Piece, vertexShader: string, fragmentShader: string, more: Record<string, number>) {
    const uniforms: Record<string, THREE.IUniform> = {
      transforms: { value: p.transforms },
      looks: { value: p.looks },
      ...Object.fromEntries(Object.entries(more).map(([name, value]) => [name, { value }])),
    }
    const side = THREE.DoubleSide
    const flat = { depthTest: false, depthWrite: false, transparent: true, glslVersion: THREE.GLSL3 } as const
    const made = new THREE.ShaderMaterial({ ...flat, side, vertexShader, fragmentShader, uniforms })
    this.materials.push(made)
    return this.owned.own('layers', made)
  }
}
