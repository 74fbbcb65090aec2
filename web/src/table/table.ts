import * as THREE from 'three'
import { PLACE, pickFlat, type Piece } from '../scene/pieces'
import { View } from '../scene/view'

const VERTEX = /* glsl */ `
  ${PLACE}
  uniform sampler2D looks;
  in float object;
  out vec4 look;
  void main() {
    look = texelFetch(looks, ivec2(int(object + 0.5), 0), 0);
    vec2 t = placed(uv);
    gl_Position = island < 0.0 ? vec4(2.0, 2.0, 2.0, 1.0) : projectionMatrix * viewMatrix * vec4(t, 0.0, 1.0);
  }
`
const FILL = /* glsl */ `
  in vec4 look;
  out vec4 colour;
  uniform float edge;
  void main() {
    bool selected = look.a > 0.9;
    if (!selected && look.a > 0.4 && edge < 0.5) discard;
    // A selected patch is woven with dark threads; an edge is the cloth's own colour, darker.
    bool thread = selected && mod(floor(gl_FragCoord.x) + floor(gl_FragCoord.y), 6.0) < 1.5;
    vec3 c = edge > 0.5 ? (selected ? vec3(0.15, 0.2, 0.3) : look.rgb * 0.62) : mix(look.rgb, vec3(0.98, 0.96, 0.92), selected ? 0.1 : 0.38);
    colour = vec4(thread ? vec3(0.15, 0.2, 0.3) : c, 1.0);
  }
`

/** Draws the islands flat: two draw calls a file. */
export class Table extends View {
  private readonly camera = new THREE.OrthographicCamera(-1, 1, 1, -1, -1, 1)
  private readonly content = new THREE.Group()
  private pieces: Piece[] = []
  private centre = new THREE.Vector2(0.5, 0.5)
  private span = 1.15

  constructor(
    host: HTMLElement,
    private readonly picked: (hit: { file: number; object: number } | null, add: boolean) => void,
  ) {
    super(host)
    this.scene.add(this.content, tile())
    this.listen()
  }

  setPieces(pieces: Piece[]): void {
    this.pieces = pieces
    this.content.clear()
    for (const p of pieces) {
      for (const edge of [0, 1]) {
        const material = new THREE.ShaderMaterial({
          glslVersion: THREE.GLSL3,
          vertexShader: VERTEX,
          fragmentShader: FILL,
          side: THREE.DoubleSide,
          depthTest: false,
          uniforms: { transforms: { value: p.transforms }, looks: { value: p.looks }, edge: { value: edge } },
        })
        const thing = edge ? new THREE.LineSegments(p.edges, material) : new THREE.Mesh(p.flat, material)
        thing.frustumCulled = false
        thing.renderOrder = edge
        this.content.add(thing)
      }
    }
    this.draw()
  }

  fit(): void {
    this.centre.set(0.5, 0.5)
    this.span = 1.15
    this.draw()
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
    return this.camera
  }

  private at(e: MouseEvent): THREE.Vector2 {
    const box = this.host.getBoundingClientRect()
    const unit = this.span / Math.min(box.width, box.height)
    return new THREE.Vector2(
      this.centre.x + (e.clientX - box.left - box.width / 2) * unit,
      this.centre.y - (e.clientY - box.top - box.height / 2) * unit,
    )
  }

  private listen(): void {
    let from: THREE.Vector2 | null = null
    let moved = 0
    const element = this.renderer.domElement
    element.addEventListener('pointerdown', (e) => {
      element.setPointerCapture(e.pointerId)
      from = this.at(e)
      moved = 0
    })
    element.addEventListener('pointermove', (e) => {
      if (!from) return
      moved += Math.abs(e.movementX) + Math.abs(e.movementY)
      if (moved < 4) return
      this.centre.add(from).sub(this.at(e))
      this.draw()
    })
    element.addEventListener('pointerup', (e) => {
      if (from && moved < 4) {
        const p = this.at(e)
        this.picked(pickFlat(this.pieces, p.x, p.y), e.ctrlKey || e.metaKey || e.shiftKey)
      }
      from = null
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
}

/** A cloth square with a running stitch as its border. */
function tile(): THREE.Object3D {
  const group = new THREE.Group()
  const cloth = new THREE.Mesh(
    new THREE.PlaneGeometry(1, 1),
    new THREE.MeshBasicMaterial({ color: '#fdfaf3', depthTest: false }),
  )
  cloth.position.set(0.5, 0.5, 0)
  cloth.renderOrder = -2
  const ring = [0, 0, 1, 0, 1, 1, 0, 1, 0, 0]
  const points = Array.from({ length: 5 }, (_, i) => new THREE.Vector3(ring[2 * i], ring[2 * i + 1], 0))
  const stitch = new THREE.Line(
    new THREE.BufferGeometry().setFromPoints(points),
    new THREE.LineDashedMaterial({ color: '#26324d', dashSize: 0.018, gapSize: 0.01, depthTest: false }),
  )
  stitch.computeLineDistances()
  stitch.renderOrder = 5
  group.add(cloth, stitch)
  return group
}
