import * as THREE from 'three'
import { OrbitControls } from 'three/examples/jsm/controls/OrbitControls.js'
import { NO_ISLAND } from '../scene/geometry'
import { doubleClicks, NOTHING, takenOf, type How, type Taken } from '../scene/flat'
import { SELECTED, type Piece } from '../scene/pieces'
import { View } from '../scene/view'
import { Dress } from './dress'
import { COLOURS } from '../colours'
import { brushing, type BrushHand } from '../scene/brushing'
import type { Under } from '../store/hand'
import { onSurface } from './surface'
import { edgeKey, stretchOf, type Edge, type Face, type Point } from '../scene/edges'
import { caughtIn, type Caught } from '../scene/area'
import { drawnAround } from './gesture'
import { Picker } from './picker'
import type { Look } from './shaders'
import { Stitches } from './stitches'
import { placesOf, sphereOf, stand } from './camera'

/** What a click takes. */
export type Grain = 'objects' | 'islands' | 'edges' | 'faces' | 'points' | 'brush' | 'measure'

/** Whether clicks take parts of surfaces, not whole things. */
const isFine = (g: Grain) => g === 'edges' || g === 'faces' || g === 'points' || g === 'brush'

const ENOUGH = 20_000 // vertices that the camera is fitted to

/** Draws the objects in space: one draw call a file. */
export class Model extends View {
  /** What the objects wear. */
  readonly dress = new Dress(this.owned, () => this.draw())
  private readonly camera = new THREE.PerspectiveCamera(40, 1, 0.01, 1000)
  private readonly controls: OrbitControls
  private readonly oddities = new THREE.Group()
  private readonly stitches = new Stitches(this.owned)
  private readonly chosen = new THREE.Group()
  private readonly picker = this.owned.own('view', new Picker(this.renderer))
  private pieces: Piece[] = []
  private radius = 1
  private fitted = false
  private grain: Grain = 'objects'

  constructor(
    host: HTMLElement,
    private readonly picked: (taken: Taken, how: How) => void,
    /** What was drawn around. */
    private readonly caught: (caught: Caught, add: boolean) => void,
    /** What the pointer is over, for the words beside it. */
    private readonly over_: (words: string, x: number, y: number) => void = () => {},
    private readonly hand: BrushHand | null = null,
  ) {
    super(host)
    this.scene.add(this.dress.content, this.oddities, this.chosen, this.stitches)
    this.controls = new OrbitControls(this.camera, this.renderer.domElement)
    this.controls.addEventListener('change', () => this.draw())
    this.listen()
  }

  setPieces(pieces: Piece[]): void {
    this.pieces = pieces
    this.dress.setPieces(pieces)
    this.oddities.clear()
    this.owned.release('oddities')
    this.picker.setPieces(pieces)
    for (const p of pieces) {
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

  /** Where the old paint ends and the new begins, as a share of the width. */
  setWipe(share: number): void {
    this.dress.setWipe(share * this.renderer.domElement.width)
  }

  /** What the objects wear; `squares` checker squares across the map, `band` in doublings. */
  setLook(look: Look, squares: number, band: number, marks: boolean): void {
    this.oddities.visible = marks
    this.weaving = look === 'weave'
    this.dress.setLook(look, squares, band, marks)
  }

  fit(): void {
    const count = this.pieces.reduce((n, p) => n + p.data.island.length, 0)
    const every = Math.max(1, Math.floor(count / ENOUGH))
    const points = placesOf(this.pieces, (p, v) => v % every === 0 && !p.hidden(p.objectOf[v]))
    this.fitted = points.length > 0
    if (this.fitted) this.radius = Math.max(1e-6, sphereOf(points).radius)
    this.look(points)
  }

  /** The direction that is looked along. */
  direction(): [number, number, number] {
    const d = this.camera.getWorldDirection(new THREE.Vector3())
    return [d.x, d.y, d.z]
  }

  /** Go to the selected islands, and to what has none of some objects, from where the camera looks now. */
  showSelected(objects: ReadonlySet<string>): void {
    const selected = (p: Piece, v: number) => {
      const i = p.data.island[v]
      return i === NO_ISLAND ? objects.has(`${p.file}/${p.objectOf[v]}`) : (p.mark(i) & SELECTED) !== 0
    }
    this.look(placesOf(this.pieces, selected), this.camera.position.clone().sub(this.controls.target))
  }

  private look(points: number[], from = new THREE.Vector3(0.45, 0.5, 1)): void {
    const aspect = this.host.clientWidth / Math.max(1, this.host.clientHeight)
    const place = stand(this.camera, points, from, aspect)
    if (!place) return
    this.controls.target.copy(place)
    this.controls.update()
    this.draw()
  }

  protected aim(): THREE.Camera {
    this.dress.setQuiet(isFine(this.grain) || this.weaving)
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
  setThreads(
    seams: ReadonlySet<string> | null,
    edges: Iterable<Edge>,
    faces: Iterable<Face>,
    points: Iterable<Point>,
  ): void {
    this.stitches.setSeams(seams ? this.pieces : [], 0.008 * this.radius, seams ?? new Set())
    this.stitches.setPicked(edges, points)
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

  /** Whether what is hidden behind something counts too, where something is drawn around. */
  through = false

  private around(line: THREE.Vector2[], add: boolean): void {
    const { clientWidth: width, clientHeight: height } = this.host
    this.aim()
    const far = this.through ? null : this.picker.distances(this.pieces, this.camera, width, height)
    const sight = { camera: this.camera, width, height, radius: this.radius, far }
    this.caught(caughtIn(this.pieces, line, sight), add)
  }

  /** What is under a place of the page. */
  private under(e: { clientX: number; clientY: number }): Taken & { stretch: number } {
    const box = this.host.getBoundingClientRect()
    const [x, y] = [e.clientX - box.left, e.clientY - box.top]
    this.aim()
    const none = { ...NOTHING, stretch: 0 }
    const found = this.picker.at(this.pieces, this.camera, x, y, box.width, box.height)
    if (!found) return none
    const [p, triangle] = found
    const { index, position } = p.data
    const at = [0, 1, 2].map((k) => {
      const v = new THREE.Vector3().fromArray(position, 3 * index[3 * triangle + k]).project(this.camera)
      return new THREE.Vector2(((v.x + 1) / 2) * box.width, ((1 - v.y) / 2) * box.height)
    })
    const taken = takenOf(p, triangle, at, new THREE.Vector2(x, y))
    return { ...taken, stretch: taken.hit?.island == null ? 0 : stretchOf(p, triangle) }
  }

  /** Where the brush stands on the surface, in the UVs of the island there. */
  private underBrush(e: PointerEvent): Under | null {
    const box = this.host.getBoundingClientRect()
    const [x, y] = [e.clientX - box.left, e.clientY - box.top]
    this.aim()
    const found = this.picker.at(this.pieces, this.camera, x, y, box.width, box.height)
    const place = new THREE.Vector2((2 * x) / box.width - 1, 1 - (2 * y) / box.height)
    return found && onSurface(...found, this.camera, place, (this.hand?.size() ?? 0) / box.height)
  }

  private hovered = ''

  /** Outline what a click would take. */
  private hover(e: PointerEvent): void {
    const told = this.weaving
    if (!isFine(this.grain) && !told) return
    const taken = this.under(e)
    const edge = this.grain === 'edges' ? taken.edge : null
    const faces = this.grain === 'faces' ? taken.faces : []
    const point = this.grain === 'points' ? taken.point : null
    const key = point
      ? point.at.join()
      : edge
        ? edge.a.join() + edge.b.join()
        : faces.map((f) => `${f.file}/${f.object}/${f.triangle}`).join()
    const box = this.host.getBoundingClientRect()
    const words = told && taken.stretch ? `stretch ${taken.stretch > 99 ? 'over 99' : taken.stretch.toFixed(2)}` : ''
    this.over_(words, e.clientX - box.left, e.clientY - box.top)
    if (key === this.hovered) return
    this.hovered = key
    this.stitches.setHover(edge ? [edge] : border(faces.map((f) => this.cornersOf(f))), point ? [point] : [])
    this.draw()
  }

  private weaving = false

  private listen(): void {
    let x = 0
    let y = 0
    const twice = doubleClicks()
    let waiting = 0
    const element = this.renderer.domElement
    this.undrawn = drawnAround(this.host, element, {
      done: (line, add) => this.around(line, add),
      busy: (drawing) => (this.controls.enabled = !drawing),
    })
    if (this.hand) this.unbrushed = brushing(this.host, element, this.hand, (e) => this.underBrush(e))
    element.addEventListener('pointerdown', (e) => ([x, y] = [e.clientX, e.clientY]))
    element.addEventListener('pointerup', (e) => {
      if (Math.abs(e.clientX - x) + Math.abs(e.clientY - y) > 4) return
      const { grain } = this
      const fine = isFine(grain)
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

  private undrawn = () => {}
  private unbrushed = () => {}

  override dispose(): void {
    this.undrawn()
    this.unbrushed()
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
