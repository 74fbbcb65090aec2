import * as THREE from 'three'
import { OrbitControls } from 'three/examples/jsm/controls/OrbitControls.js'
import { NO_ISLAND } from '../scene/geometry'
import { doubleClicks, takenOf, type How, type Taken } from '../scene/flat'
import { DENSITY, PLACE, SELECTED, type Piece } from '../scene/pieces'
import { loadPicture } from '../scene/pictures'
import { View } from '../scene/view'
import { checker } from './checker'
import { COLOURS, vec } from '../colours'
import { edgeKey, nearestSide, stretchOf, type Edge, type Face } from '../scene/edges'
import { Picker } from './picker'
import { Stitches } from './stitches'

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
  uniform float quiet;
  uniform sampler2D picture;
  uniform vec2 reach;
  uniform float painted;
  // The greater over the smaller singular value of the map from the surface to the plane, from how both change across the screen.
  float stretched() {
    vec3 e = dFdx(eye);
    vec3 f = dFdy(eye);
    float along = max(length(e), 1e-20);
    float x = dot(e, f) / along;
    float y = sqrt(max(dot(f, f) - x * x, 1e-20));
    vec2 u = dFdx(tex) / along;
    vec2 v = (dFdy(tex) - u * x) / y;
    float q = length(vec2(u.x + v.y, u.y - v.x));
    float r = length(vec2(u.x - v.y, u.y + v.x));
    return (q + r) / max(abs(q - r), 1e-12);
  }
  // Even cloth inside the limit; beyond, its threads are pulled apart, the more the darker and the wider.
  vec3 weave(vec3 plain) {
    float beyond = clamp(log2(max(stretched(), 1.0)) / 1.6, 0.0, 1.0);
    vec3 even = ${vec(COLOURS.even)};
    if (beyond < 0.086) return even;
    float wide = mix(3.0, 9.0, beyond);
    float thread = step(mod(gl_FragCoord.x - gl_FragCoord.y, wide), 1.4);
    return mix(mix(even, ${vec(COLOURS.taut)}, beyond), ${vec(COLOURS.tautDeep)}, thread * (0.3 + 0.7 * beyond));
  }
  void main() {
    vec3 n = normalize(cross(dFdx(eye), dFdy(eye)));
    float light = 0.62 + 0.38 * abs(dot(n, normalize(vec3(0.3, 0.5, 0.8))));
    vec3 plain = mix(cloth, ${vec(COLOURS.bleached)}, 0.3);
    vec3 c = plain;
    if (look < 0.5) c = texture(pattern, tex * squares / 4.0).rgb * mix(vec3(1.0), plain, 0.45) * 1.1;
    else if (look > 3.5 && look < 4.5) c = painted > 0.5 ? texture(picture, old).rgb : plain;
    else if (look > 2.5) {
      bool under = painted > 0.5 && all(greaterThanEqual(tex, vec2(0.0))) && all(lessThanEqual(tex, reach)) && !has(state, 8);
      c = under ? texture(picture, tex / reach).rgb : plain;
    } else if (look > 1.5) c = densityColour(state.x);
    if (look > 4.5) c = unmapped > 0.5 ? plain : weave(plain);
    if (unmapped > 0.5) c = ${vec(COLOURS.unmapped)};
    if (marks > 0.5 && has(state, 2) && mod(gl_FragCoord.x + gl_FragCoord.y, 10.0) < 1.6) c = mix(c, ${vec(COLOURS.madder)}, 0.75);
    if (has(state, 1) && quiet > 0.5) c = mix(c, ${vec(COLOURS.indigo)}, 0.12);
    else if (has(state, 1)) {
      c = mix(c, ${vec(COLOURS.indigo)}, 0.4);
      if (mod(floor(gl_FragCoord.x) + floor(gl_FragCoord.y), 8.0) < 1.5) c = ${vec(COLOURS.ink)};
    } else if (has(state, 4)) c = mix(c, ${vec(COLOURS.paper)}, 0.75);
    colour = vec4(c * light, 1.0);
  }
`

/** What the objects wear. */
export const LOOKS = { checker: 0, cloth: 1, density: 2, tiles: 3, own: 4, weave: 5 } as const
export type Look = keyof typeof LOOKS

/** What a click takes. */
export type Grain = 'objects' | 'islands' | 'edges' | 'faces'

/** Draws the objects in space: one draw call a file. */
export class Model extends View {
  private readonly camera = new THREE.PerspectiveCamera(40, 1, 0.01, 1000)
  private readonly controls: OrbitControls
  private readonly content = new THREE.Group()
  private readonly pattern = this.owned.own('view', checker())
  private readonly oddities = new THREE.Group()
  private readonly white = this.owned.own('view', new THREE.DataTexture(new Uint8Array([255, 255, 255, 255]), 1, 1))
  private readonly stitches = new Stitches(this.owned)
  private readonly chosen = new THREE.Group()
  private readonly picker = this.owned.own('view', new Picker(this.renderer))
  private pieces: Piece[] = []
  private shown = 0
  private radius = 1
  private fitted = false
  private grain: Grain = 'objects'

  constructor(
    host: HTMLElement,
    private readonly picked: (taken: Taken, how: How) => void,
    /** What the pointer is over, for the words beside it. */
    private readonly over_: (words: string, x: number, y: number) => void = () => {},
  ) {
    super(host)
    this.white.needsUpdate = true
    this.scene.add(this.content, this.oddities, this.chosen, this.stitches)
    this.controls = new OrbitControls(this.camera, this.renderer.domElement)
    this.controls.addEventListener('change', () => this.draw())
    this.listen()
  }

  setPieces(pieces: Piece[]): void {
    this.pieces = pieces
    this.content.clear()
    this.oddities.clear()
    this.owned.release('dress')
    this.owned.release('oddities')
    this.picker.setPieces(pieces)
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
    // Whoever works on a seam keeps looking at it; the camera goes where everything is only once.
    if (!this.fitted && pieces.length) this.fit()
    this.draw()
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
        quiet: { value: 0 },
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
    this.weaving = look === 'weave'
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
    this.fitted = !box.isEmpty()
    if (this.fitted) this.radius = Math.max(1e-6, box.getBoundingSphere(new THREE.Sphere()).radius)
    this.look(box)
  }

  /** The direction that is looked along. */
  direction(): [number, number, number] {
    const d = this.camera.getWorldDirection(new THREE.Vector3())
    return [d.x, d.y, d.z]
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
    const quiet = this.grain === 'edges' || this.grain === 'faces' || this.weaving ? 1 : 0
    this.each((u) => (u.quiet.value = quiet))
    this.camera.aspect = this.host.clientWidth / this.host.clientHeight
    this.camera.updateProjectionMatrix()
    this.stitches.resize(this.host.clientWidth, this.host.clientHeight)
    return this.camera
  }

  /** What clicks take. Where edges or faces are picked, the selection only tints, so that they can be seen. */
  setGrain(grain: Grain): void {
    this.grain = grain
    this.stitches.setHover([])
    this.hovered = ''
    this.draw()
  }

  /** Threads along the seams of some objects (of all where none is named; null for no seams), along picked edges, and over picked faces. */
  setThreads(seams: ReadonlySet<string> | null, edges: Iterable<Edge>, faces: Iterable<Face>): void {
    this.stitches.setSeams(seams ? this.pieces : [], 0.008 * this.radius, seams ?? new Set())
    this.stitches.setPicked(edges)
    this.owned.release('chosen')
    this.chosen.clear()
    const corners = [...faces].flatMap((f) => this.cornersOf(f))
    if (corners.length) {
      const over = { color: COLOURS.indigo, polygonOffset: true, polygonOffsetFactor: -2, polygonOffsetUnits: -2 }
      const material = new THREE.MeshBasicMaterial({ ...over, side: THREE.DoubleSide, transparent: true, opacity: 0.6 })
      const geometry = new THREE.BufferGeometry()
      geometry.setAttribute('position', new THREE.Float32BufferAttribute(corners, 3))
      this.chosen.add(new THREE.Mesh(this.owned.own('chosen', geometry), this.owned.own('chosen', material)))
    }
    this.draw()
  }

  private cornersOf(f: Face): number[] {
    const p = this.pieces.find((x) => x.file === f.file)
    const first = p?.data.header.objects[f.object]?.index[0]
    if (!p || first === undefined) return []
    const at = 3 * (first + f.triangle)
    return [0, 1, 2].flatMap((k) => {
      const v = p.data.index[at + k]
      return [...p.data.position.subarray(3 * v, 3 * v + 3)]
    })
  }

  /** What is under a place of the page. */
  private under(e: { clientX: number; clientY: number }): Taken & { stretch: number } {
    const box = this.host.getBoundingClientRect()
    const [x, y] = [e.clientX - box.left, e.clientY - box.top]
    this.aim()
    const none = { hit: null, edge: null, faces: [], stretch: 0 }
    const found = this.picker.at(this.pieces, this.camera, x, y, box.width, box.height)
    if (!found) return none
    const [p, triangle] = found
    const { index, position } = p.data
    const at = [0, 1, 2].map((k) => {
      const v = new THREE.Vector3().fromArray(position, 3 * index[3 * triangle + k]).project(this.camera)
      return new THREE.Vector2(((v.x + 1) / 2) * box.width, ((1 - v.y) / 2) * box.height)
    })
    const taken = takenOf(p, triangle, nearestSide(p, triangle, at, new THREE.Vector2(x, y)).side)
    return { ...taken, stretch: taken.hit?.island == null ? 0 : stretchOf(p, triangle) }
  }

  private hovered = ''

  /** Outline what a click would take. */
  private hover(e: PointerEvent): void {
    const told = this.weaving
    if (this.grain !== 'edges' && this.grain !== 'faces' && !told) return
    const taken = this.under(e)
    const edge = this.grain === 'edges' ? taken.edge : null
    const faces = this.grain === 'faces' ? taken.faces : []
    const key = edge ? edge.a.join() + edge.b.join() : faces.map((f) => `${f.file}/${f.object}/${f.triangle}`).join()
    const box = this.host.getBoundingClientRect()
    const words = told && taken.stretch ? `stretch ${taken.stretch > 99 ? 'over 99' : taken.stretch.toFixed(2)}` : ''
    this.over_(words, e.clientX - box.left, e.clientY - box.top)
    if (key === this.hovered) return
    this.hovered = key
    this.stitches.setHover(edge ? [edge] : border(faces.map((f) => this.cornersOf(f))))
    this.draw()
  }

  private weaving = false

  private listen(): void {
    let x = 0
    let y = 0
    const twice = doubleClicks()
    let waiting = 0
    const element = this.renderer.domElement
    element.addEventListener('pointerdown', (e) => ([x, y] = [e.clientX, e.clientY]))
    element.addEventListener('pointerup', (e) => {
      if (Math.abs(e.clientX - x) + Math.abs(e.clientY - y) > 4) return
      const { grain } = this
      const fine = grain === 'edges' || grain === 'faces'
      const add = e.ctrlKey || e.metaKey || (e.shiftKey && !fine)
      this.picked(this.under(e), { add, way: e.shiftKey && fine, twice: twice(e) })
    })
    element.addEventListener('pointermove', (e) => {
      if (e.buttons) return
      cancelAnimationFrame(waiting)
      waiting = requestAnimationFrame(() => this.hover(e))
    })
    element.addEventListener('pointerleave', () => {
      cancelAnimationFrame(waiting)
      this.hovered = ''
      this.over_('', 0, 0)
      this.stitches.setHover([])
      this.draw()
    })
  }

  override dispose(): void {
    this.controls.dispose()
    super.dispose()
  }
}

/** The sides that one triangle alone has, as edges to draw. */
function border(triangles: number[][]): Edge[] {
  const sides = new Map<string, Edge | null>()
  for (const corners of triangles)
    for (let k = 0; k < 3; k++) {
      const at = (n: number) => corners.slice(3 * (n % 3), 3 * (n % 3) + 3) as [number, number, number]
      const edge = { file: 0, object: 0, triangle: 0, side: k, a: at(k), b: at(k + 1) }
      const key = edgeKey(edge)
      sides.set(key, sides.has(key) ? null : edge)
    }
  return [...sides.values()].filter((e): e is Edge => !!e)
}
