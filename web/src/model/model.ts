import * as THREE from 'three'
import { OrbitControls } from 'three/examples/jsm/controls/OrbitControls.js'
import { NO_ISLAND } from '../scene/geometry'
import { DENSITY, PLACE, SELECTED, type Hit, type Piece } from '../scene/pieces'
import { View } from '../scene/view'
import { checker } from './checker'

const VERTEX = /* glsl */ `
  ${PLACE}
  uniform sampler2D looks;
  in float object;
  out vec3 cloth;
  out vec2 tex;
  out vec3 eye;
  out float unmapped;
  void main() {
    cloth = texelFetch(looks, ivec2(int(object + 0.5), 0), 0).rgb;
    tex = placed(uv);
    unmapped = island < 0.0 ? 1.0 : 0.0;
    vec4 p = modelViewMatrix * vec4(position, 1.0);
    eye = p.xyz;
    gl_Position = projectionMatrix * p;
  }
`
const FRAGMENT = /* glsl */ `
  ${DENSITY}
  in vec3 cloth;
  in vec2 state;
  in vec2 tex;
  in vec3 eye;
  in float unmapped;
  out vec4 colour;
  uniform sampler2D pattern;
  uniform float squares;
  uniform float look;
  uniform float marks;
  void main() {
    vec3 n = normalize(cross(dFdx(eye), dFdy(eye)));
    float light = 0.62 + 0.38 * abs(dot(n, normalize(vec3(0.3, 0.5, 0.8))));
    vec3 plain = mix(cloth, vec3(0.98, 0.96, 0.92), 0.3);
    vec3 c = plain;
    if (look < 0.5) c = texture(pattern, tex * squares / 4.0).rgb * mix(vec3(1.0), plain, 0.45) * 1.1;
    else if (look > 1.5) c = densityColour(state.x);
    if (unmapped > 0.5) c = vec3(0.8, 0.76, 0.7);
    if (marks > 0.5 && has(state, 2) && mod(gl_FragCoord.x + gl_FragCoord.y, 10.0) < 1.6) c = mix(c, vec3(0.64, 0.25, 0.2), 0.75);
    if (has(state, 1)) {
      c = mix(c, vec3(0.24, 0.35, 0.6), 0.4);
      if (mod(floor(gl_FragCoord.x) + floor(gl_FragCoord.y), 8.0) < 1.5) c = vec3(0.15, 0.2, 0.3);
    } else if (has(state, 4)) c = mix(c, vec3(0.96, 0.94, 0.89), 0.75);
    colour = vec4(c * light, 1.0);
  }
`

/** What the objects wear. */
export const LOOKS = { checker: 0, cloth: 1, density: 2 } as const
export type Look = keyof typeof LOOKS

/** Draws the objects in space: one draw call a file. */
export class Model extends View {
  private readonly camera = new THREE.PerspectiveCamera(40, 1, 0.01, 1000)
  private readonly controls: OrbitControls
  private readonly content = new THREE.Group()
  private readonly pattern = checker()
  private pieces: Piece[] = []

  constructor(
    host: HTMLElement,
    private readonly picked: (hit: Hit | null, add: boolean) => void,
  ) {
    super(host)
    this.scene.add(this.content)
    this.controls = new OrbitControls(this.camera, this.renderer.domElement)
    this.controls.addEventListener('change', () => this.draw())
    this.pick()
  }

  setPieces(pieces: Piece[]): void {
    this.pieces = pieces
    this.content.clear()
    for (const p of pieces) {
      const material = new THREE.ShaderMaterial({
        glslVersion: THREE.GLSL3,
        vertexShader: VERTEX,
        fragmentShader: FRAGMENT,
        side: THREE.DoubleSide,
        uniforms: {
          transforms: { value: p.transforms },
          looks: { value: p.looks },
          pattern: { value: this.pattern },
          squares: { value: 32 },
          look: { value: 0 },
          marks: { value: 1 },
          band: { value: 0.14 },
        },
      })
      this.content.add(new THREE.Mesh(p.geometry, material))
    }
    this.fit()
  }

  /** What the objects wear; `squares` checker squares across the map, `band` in doublings. */
  setLook(look: Look, squares: number, band: number, marks: boolean): void {
    for (const mesh of this.content.children as THREE.Mesh<THREE.BufferGeometry, THREE.ShaderMaterial>[]) {
      const u = mesh.material.uniforms
      u.look.value = LOOKS[look]
      u.squares.value = squares
      u.band.value = band
      u.marks.value = marks ? 1 : 0
    }
    this.draw()
  }

  fit(): void {
    const box = new THREE.Box3()
    for (const p of this.pieces) {
      p.geometry.computeBoundingBox()
      box.union(p.geometry.boundingBox!)
    }
    this.look(box)
  }

  /** Go to the selected islands, from where the camera looks now. */
  showSelected(): void {
    const box = new THREE.Box3()
    const at = new THREE.Vector3()
    for (const p of this.pieces) {
      const { island, position } = p.data
      for (let v = 0; v < island.length; v++)
        if (island[v] !== NO_ISLAND && p.mark(island[v]) & SELECTED) box.expandByPoint(at.fromArray(position, 3 * v))
    }
    this.look(box, this.camera.position.clone().sub(this.controls.target))
  }

  private look(box: THREE.Box3, from = new THREE.Vector3(0.45, 0.5, 1)): void {
    if (box.isEmpty()) return
    const sphere = box.getBoundingSphere(new THREE.Sphere())
    const radius = Math.max(sphere.radius, 1e-6)
    const aspect = this.host.clientWidth / Math.max(1, this.host.clientHeight)
    const distance = radius / Math.sin((this.camera.fov * Math.PI) / 360) / Math.min(1, aspect) / 1.75
    this.camera.near = distance / 100
    this.camera.far = distance * 20
    this.camera.position.copy(sphere.center).add(from.normalize().multiplyScalar(distance))
    this.controls.target.copy(sphere.center)
    this.controls.update()
    this.draw()
  }

  protected aim(): THREE.Camera {
    this.camera.aspect = this.host.clientWidth / this.host.clientHeight
    this.camera.updateProjectionMatrix()
    return this.camera
  }

  private pick(): void {
    let x = 0
    let y = 0
    const element = this.renderer.domElement
    element.addEventListener('pointerdown', (e) => ([x, y] = [e.clientX, e.clientY]))
    element.addEventListener('pointerup', (e) => {
      if (Math.abs(e.clientX - x) + Math.abs(e.clientY - y) > 4) return
      const box = this.host.getBoundingClientRect()
      const at = new THREE.Vector2(
        ((e.clientX - box.left) / box.width) * 2 - 1,
        1 - ((e.clientY - box.top) / box.height) * 2,
      )
      const ray = new THREE.Raycaster()
      ray.setFromCamera(at, this.camera)
      const hit = ray.intersectObjects(this.content.children, false)[0]
      const piece = hit && this.pieces[this.content.children.indexOf(hit.object)]
      const island = piece && hit.face ? piece.data.island[hit.face.a] : NO_ISLAND
      const found =
        piece && hit.face
          ? { file: piece.file, object: piece.objectOf[hit.face.a], island: island === NO_ISLAND ? null : island }
          : null
      this.picked(found, e.ctrlKey || e.metaKey || e.shiftKey)
    })
  }

  override dispose(): void {
    this.controls.dispose()
    this.pattern.dispose()
    super.dispose()
  }
}
