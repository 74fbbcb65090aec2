import * as THREE from 'three'
import { OrbitControls } from 'three/examples/jsm/controls/OrbitControls.js'
import { NO_ISLAND } from '../scene/geometry'
import { DENSITY, PLACE, SELECTED, type Hit, type Piece } from '../scene/pieces'
import { loadPicture } from '../scene/pictures'
import { View } from '../scene/view'
import { checker } from './checker'
import { COLOURS, vec } from '../colours'

const VERTEX = /* glsl */ `
  ${PLACE}
  uniform sampler2D looks;
  in float object;
  in vec2 paint;
  out vec2 old;
  out vec3 cloth;
  out vec2 tex;
  out vec3 eye;
  out float unmapped;
  void main() {
    cloth = texelFetch(looks, ivec2(int(object + 0.5), 0), 0).rgb;
    tex = placed(uv);
    old = paint;
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
  in vec2 old;
  in vec3 eye;
  in float unmapped;
  out vec4 colour;
  uniform sampler2D pattern;
  uniform float squares;
  uniform float look;
  uniform float marks;
  uniform sampler2D picture;
  uniform vec2 reach;
  uniform float painted;
  void main() {
    vec3 n = normalize(cross(dFdx(eye), dFdy(eye)));
    float light = 0.62 + 0.38 * abs(dot(n, normalize(vec3(0.3, 0.5, 0.8))));
    vec3 plain = mix(cloth, ${vec(COLOURS.bleached)}, 0.3);
    vec3 c = plain;
    if (look < 0.5) c = texture(pattern, tex * squares / 4.0).rgb * mix(vec3(1.0), plain, 0.45) * 1.1;
    else if (look > 3.5) c = painted > 0.5 ? texture(picture, old).rgb : plain;
    else if (look > 2.5) {
      bool under = painted > 0.5 && all(greaterThanEqual(tex, vec2(0.0))) && all(lessThanEqual(tex, reach)) && !has(state, 8);
      c = under ? texture(picture, tex / reach).rgb : plain;
    } else if (look > 1.5) c = densityColour(state.x);
    if (unmapped > 0.5) c = ${vec(COLOURS.unmapped)};
    if (marks > 0.5 && has(state, 2) && mod(gl_FragCoord.x + gl_FragCoord.y, 10.0) < 1.6) c = mix(c, ${vec(COLOURS.madder)}, 0.75);
    if (has(state, 1)) {
      c = mix(c, ${vec(COLOURS.indigo)}, 0.4);
      if (mod(floor(gl_FragCoord.x) + floor(gl_FragCoord.y), 8.0) < 1.5) c = ${vec(COLOURS.ink)};
    } else if (has(state, 4)) c = mix(c, ${vec(COLOURS.paper)}, 0.75);
    colour = vec4(c * light, 1.0);
  }
`

/** What the objects wear. */
export const LOOKS = { checker: 0, cloth: 1, density: 2, tiles: 3, own: 4 } as const
export type Look = keyof typeof LOOKS

/** Draws the objects in space: one draw call a file. */
export class Model extends View {
  private readonly camera = new THREE.PerspectiveCamera(40, 1, 0.01, 1000)
  private readonly controls: OrbitControls
  private readonly content = new THREE.Group()
  private readonly pattern = this.owned.own('view', checker())
  private readonly oddities = new THREE.Group()
  private readonly white = this.owned.own('view', new THREE.DataTexture(new Uint8Array([255, 255, 255, 255]), 1, 1))
  private pieces: Piece[] = []
  private shown = 0

  constructor(
    host: HTMLElement,
    private readonly picked: (hit: Hit | null, add: boolean) => void,
  ) {
    super(host)
    this.white.needsUpdate = true
    this.scene.add(this.content, this.oddities)
    this.controls = new OrbitControls(this.camera, this.renderer.domElement)
    this.controls.addEventListener('change', () => this.draw())
    this.pick()
  }

  setPieces(pieces: Piece[]): void {
    this.pieces = pieces
    this.content.clear()
    this.oddities.clear()
    this.owned.release('dress')
    this.owned.release('oddities')
    for (const p of pieces) {
      this.content.add(new THREE.Mesh(p.geometry, this.material(p)))
      // Faces with a fault are laid over the others, their edges over everything: slivers are found by them.
      const over = {
        color: COLOURS.madder,
        depthTest: true,
        polygonOffset: true,
        polygonOffsetFactor: -2,
        polygonOffsetUnits: -2,
      }
      const faces = new THREE.MeshBasicMaterial({ ...over, side: THREE.DoubleSide, transparent: true, opacity: 0.55 })
      const edges = new THREE.LineBasicMaterial({ color: COLOURS.madderDeep, depthTest: false, transparent: true })
      this.owned.own('oddities', faces)
      this.owned.own('oddities', edges)
      this.oddities.add(new THREE.Mesh(p.odd, faces), new THREE.LineSegments(p.oddEdges, edges))
    }
    this.fit()
  }

  private material(p: Piece): THREE.ShaderMaterial {
    const material = new THREE.ShaderMaterial({
      glslVersion: THREE.GLSL3,
      vertexShader: VERTEX,
      fragmentShader: FRAGMENT,
      side: THREE.DoubleSide,
      uniforms: {
        transforms: { value: p.transforms },
        looks: { value: p.looks },
        pattern: { value: this.pattern },
        picture: { value: this.white },
        reach: { value: new THREE.Vector2(1, 1) },
        painted: { value: 0 },
        squares: { value: 32 },
        look: { value: 0 },
        marks: { value: 1 },
        band: { value: 0.14 },
      },
    })
    return this.owned.own('dress', material)
  }

  private each(set: (u: Record<string, THREE.IUniform>) => void): void {
    for (const mesh of this.content.children as THREE.Mesh<THREE.BufferGeometry, THREE.Material>[])
      for (const m of [mesh.material].flat()) set((m as THREE.ShaderMaterial).uniforms)
  }

  /** Dress the objects in the pictures of their own materials: one draw call for each material. */
  setOwn(colours: (file: number) => (string | null)[]): void {
    const turn = ++this.shown
    this.owned.release('dress')
    this.content.children.forEach((child, n) => {
      const mesh = child as THREE.Mesh<THREE.BufferGeometry, THREE.Material | THREE.Material[]>
      const p = this.pieces[n]
      const shas = colours(p.file)
      const materials = [null, ...shas].map(() => this.material(p))
      mesh.material = materials
      shas.forEach((sha, k) => {
        if (!sha) return
        void loadPicture(sha).then((texture) => {
          if (turn !== this.shown) return
          materials[k + 1].uniforms.picture.value = texture
          materials[k + 1].uniforms.painted.value = 1
          this.draw()
        })
      })
    })
  }

  /** One material for each file again; `joined`: the pictures under the tiles, which reach over `reach` tiles. */
  setPlain(joined: THREE.Texture | null, reach: [number, number]): void {
    this.shown++
    this.owned.release('joined')
    if (joined) this.owned.own('joined', joined)
    const meshes = this.content.children as THREE.Mesh<THREE.BufferGeometry, THREE.Material | THREE.Material[]>[]
    if (meshes.some((m) => Array.isArray(m.material))) {
      this.owned.release('dress')
      meshes.forEach((m, n) => (m.material = this.material(this.pieces[n])))
    }
    this.each((u) => {
      u.picture.value = joined ?? this.white
      u.painted.value = joined ? 1 : 0
      ;(u.reach.value as THREE.Vector2).set(...reach)
    })
  }

  /** What the objects wear; `squares` checker squares across the map, `band` in doublings. */
  setLook(look: Look, squares: number, band: number, marks: boolean): void {
    this.oddities.visible = marks
    this.each((u) => {
      u.look.value = LOOKS[look]
      u.squares.value = squares
      u.band.value = band
      u.marks.value = marks ? 1 : 0
    })
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
    super.dispose()
  }
}
