import * as THREE from 'three'
import { OrbitControls } from 'three/examples/jsm/controls/OrbitControls.js'
import { PLACE, type Piece } from '../scene/pieces'
import { View } from '../scene/view'
import { checker } from './checker'

const VERTEX = /* glsl */ `
  ${PLACE}
  uniform sampler2D looks;
  in float object;
  out vec4 look;
  out vec2 tex;
  out vec3 eye;
  out float unmapped;
  void main() {
    look = texelFetch(looks, ivec2(int(object + 0.5), 0), 0);
    tex = placed(uv);
    unmapped = island < 0.0 ? 1.0 : 0.0;
    vec4 p = modelViewMatrix * vec4(position, 1.0);
    eye = p.xyz;
    gl_Position = projectionMatrix * p;
  }
`
const FRAGMENT = /* glsl */ `
  in vec4 look;
  in vec2 tex;
  in vec3 eye;
  in float unmapped;
  out vec4 colour;
  uniform sampler2D pattern;
  uniform float squares;
  uniform float useChecker;
  void main() {
    vec3 n = normalize(cross(dFdx(eye), dFdy(eye)));
    float light = 0.62 + 0.38 * abs(dot(n, normalize(vec3(0.3, 0.5, 0.8))));
    vec3 cloth = mix(look.rgb, vec3(0.98, 0.96, 0.92), 0.3);
    vec3 c = useChecker > 0.5 ? texture(pattern, tex * squares / 4.0).rgb * mix(vec3(1.0), cloth, 0.45) * 1.1 : cloth;
    if (unmapped > 0.5) c = vec3(0.8, 0.76, 0.7);
    if (look.a > 0.9) c = mix(c, vec3(0.24, 0.35, 0.6), 0.35);
    else if (look.a > 0.4) c = mix(c, vec3(0.96, 0.94, 0.89), 0.75);
    colour = vec4(c * light, 1.0);
  }
`

/** Draws the objects in space: one draw call a file. */
export class Model extends View {
  private readonly camera = new THREE.PerspectiveCamera(40, 1, 0.01, 1000)
  private readonly controls: OrbitControls
  private readonly content = new THREE.Group()
  private readonly pattern = checker()
  private pieces: Piece[] = []

  constructor(
    host: HTMLElement,
    private readonly picked: (hit: { file: number; object: number } | null, add: boolean) => void,
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
          useChecker: { value: 1 },
        },
      })
      this.content.add(new THREE.Mesh(p.geometry, material))
    }
    this.fit()
  }

  /** Checker or cloth; `squares` checker squares across the map. */
  setChecker(on: boolean, squares: number): void {
    for (const mesh of this.content.children as THREE.Mesh<THREE.BufferGeometry, THREE.ShaderMaterial>[]) {
      mesh.material.uniforms.useChecker.value = on ? 1 : 0
      mesh.material.uniforms.squares.value = squares
    }
    this.draw()
  }

  fit(): void {
    const box = new THREE.Box3()
    for (const p of this.pieces) {
      p.geometry.computeBoundingBox()
      box.union(p.geometry.boundingBox!)
    }
    if (box.isEmpty()) return
    const sphere = box.getBoundingSphere(new THREE.Sphere())
    const radius = Math.max(sphere.radius, 1e-6)
    const aspect = this.host.clientWidth / Math.max(1, this.host.clientHeight)
    const distance = radius / Math.sin((this.camera.fov * Math.PI) / 360) / Math.min(1, aspect) / 1.5
    this.camera.near = distance / 100
    this.camera.far = distance * 20
    this.camera.position.copy(sphere.center).add(new THREE.Vector3(0.45, 0.5, 1).normalize().multiplyScalar(distance))
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
      const found = piece && hit.face ? { file: piece.file, object: piece.objectOf[hit.face.a] } : null
      this.picked(found, e.ctrlKey || e.metaKey || e.shiftKey)
    })
  }

  override dispose(): void {
    this.controls.dispose()
    this.pattern.dispose()
    super.dispose()
  }
}
