import * as THREE from 'three'
import {
  doubleClicks,
  edgesOnSheet,
  facesOnSheet,
  holds,
  pointsOnSheet,
  takenAt,
  takenBelow,
  takenIn,
} from '../scene/flat'
import type { Edges, Faces, Points } from '../scene/edges'
import { ELSEWHERE, SELECTED, type Piece } from '../scene/pieces'
import { pickFlat } from '../scene/under'
import { placeOf, pxOf, tilesOf, type Flat } from '../scene/sheets'
import { View } from '../scene/view'
import { TileSquares, type Pictures } from './tileSquares'
import { brushing } from '../scene/brushing'
import { NO_ISLAND } from '../scene/geometry'
import { moved } from '../scene/moving'
import type { Under } from '../store/hand'
import { IslandDrag } from './islandHand'
import { intoField, Missed } from './typed'
import { Layers } from './layers'
import { spanOf } from './framing'
import { islandsIn, islandsInside, overSelected } from './islandsIn'
import { nearPoint, PointHand } from './pointHand'
import { Overlay, type Marks } from './overlay'
import type { Events } from './events'
import { drawn } from '../colours'
import { crossHatch } from './crossHatch'

/** ms after which what the pointer rests on is named. */
const RESTING = 40

export type Snap = 'none' | 'pixel' | 'near' | 'tile'

/** Draws the islands flat: padding zone, patches and outlines, three draw calls a file. */
export class Table extends View {
  private readonly camera = new THREE.OrthographicCamera(-1, 1, 1, -1, -1, 1)
  private readonly layers = new Layers(this.owned)
  private readonly overlay: Overlay
  private readonly cross = crossHatch()
  private readonly squares = new TileSquares()
  private pieces: Piece[] = []
  private centre = new THREE.Vector2(0.5, 0.5)
  private span = 1.15
  private zone = 0
  private flat: Flat | null = null
  private drag: IslandDrag | null = null
  snap: Snap = 'pixel'
  /** Whether a click takes edges or faces: then nothing is dragged. */
  fine = false

  constructor(
    host: HTMLElement,
    private readonly events: Events,
  ) {
    super(host)
    this.overlay = new Overlay(host)
    this.scene.add(this.layers, this.squares, this.cross)
    this.owned.own('view', this.squares)
    this.owned.own('view', this.cross.geometry)
    this.owned.own('view', this.cross.material as THREE.Material)
    this.handed = new PointHand(
      () => this.pieces,
      events.grab,
      (lines) => {
        this.overlay.folds = lines
        this.overlay.points = pointsOnSheet(this.pieces, this.points)
        this.draw()
        moved()
      },
      events.dragged,
    )
    const element = this.renderer.domElement
    this.unbrushed = brushing(host, element, events.hand, (e) => this.underBrush(e))
    this.listen()
  }

  private readonly handed: PointHand
  private readonly missed = new Missed()
  private readonly unbrushed: () => void
  private unheard = () => {}
  private points: Points = new Map()

  /** Where the brush stands on the sheet, in the UVs of the island there. */
  private underBrush(e: PointerEvent): Under | null {
    const at = this.at(e)
    const hit = pickFlat(this.pieces, at.x, at.y)
    const piece = this.pieces.find((p) => p.file === hit?.file)
    if (!piece || !hit || hit.island === null || hit.island === NO_ISLAND) return null
    const own = piece.unplaced(hit.island, at)
    const radius = (this.events.hand.size() * this.unit) / piece.table[5 * hit.island + 2]
    return radius > 0 ? { piece, object: hit.object, island: hit.island, at: [own.x, own.y], radius } : null
  }

  /** A pixel of the screen in UV. */
  private get unit(): number {
    return this.span / Math.min(this.host.clientWidth, this.host.clientHeight)
  }

  setPieces(pieces: Piece[]): void {
    this.pieces = pieces
    this.layers.set(pieces)
    this.draw()
  }

  /** Whether the edges between faces are drawn. */
  setWires(on: boolean): void {
    this.layers.showWires(on)
    this.draw()
  }

  /** The sheet with its tiles; padding and margin in px; pictures under the tiles, dimmed. */
  setSheet(flat: Flat, padding: number, margin: number, pictures: Pictures, dim: number, tiled: boolean): void {
    const other = this.flat?.sheet.id !== flat.sheet.id
    const size = `${this.flat?.sheet.columns} ${this.flat?.sheet.rows}`
    this.flat = flat
    this.zone = padding / 2
    this.overlay.sheet = flat
    this.overlay.margin = margin
    this.squares.show(flat, pictures, dim, tiled)
    this.layers.put('opacity', pictures.size ? 0.3 : 1)
    if (other || size !== `${flat.sheet.columns} ${flat.sheet.rows}`) this.fit()
    this.draw()
  }

  /** What the patches show, and which marks are drawn. */
  setLook(density: boolean, band: number, hatch: boolean, overlaps: boolean): void {
    this.layers.put('density', density ? 1 : 0)
    this.layers.put('band', band)
    this.layers.put('marks', hatch ? 1 : 0)
    this.cross.visible = overlaps
    this.draw()
  }

  /** Day or night; the tiles follow when the sheet is set again. */
  setNight(night: boolean): void {
    this.layers.put('night', night ? 1 : 0)
    this.overlay.colours = this.squares.colours = drawn(night)
    this.draw()
  }

  /** What is picked of surfaces: both sides of every edge, the faces, and the points. */
  setPicked(edges: Edges, faces: Faces, points: Points): void {
    this.overlay.edges = edgesOnSheet(this.pieces, edges)
    this.overlay.faces = facesOnSheet(this.pieces, faces)
    this.points = points
    this.overlay.points = pointsOnSheet(this.pieces, points)
    this.draw()
  }

  /** Around what sewing would bring across. */
  setGhost(lines: Overlay['ghost']): void {
    this.overlay.ghost = lines
    this.draw()
  }

  /** Ends of what is measured. */
  setMeasured(ends: Overlay['measured']): void {
    this.overlay.measured = ends
    this.draw()
  }

  /** Whether rulers in px stand along the picture. */
  setRulers(on: boolean): void {
    this.overlay.rulers = on
    this.draw()
  }

  setMarks(marks: Marks): void {
    this.overlay.marks = marks
    this.draw()
  }

  fit(): void {
    const { max } = this.squares.reach
    const { clientWidth: w, clientHeight: h } = this.host
    this.centre.set(max.x / 2, max.y / 2)
    this.span = spanOf(max.x, max.y, w, h)
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
    for (const p of this.pieces)
      for (let i = 0; i < p.islands; i++) if (p.mark(i) & SELECTED && !(p.mark(i) & ELSEWHERE)) box.union(p.box(i))
    this.show(box)
  }

  /** The tile under a place on the screen, or null. */
  tileAt(x: number, y: number): number | null {
    if (!this.flat) return null
    const at = this.at({ clientX: x, clientY: y })
    const [column, row] = [Math.floor(at.x), Math.floor(at.y)]
    return tilesOf(this.flat.sheet).find((t) => placeOf(t).join() === `${column},${row}`) ?? null
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
    const most =
      this.zone / Math.min(...(this.flat ? tilesOf(this.flat.sheet).map((t) => pxOf(this.flat!, t)) : [2048]))
    this.layers.fit(unit, this.zone, most)
    return this.camera
  }

  protected override over(): void {
    this.overlay.draw(this.centre, this.span)
  }

  private at(e: { clientX: number; clientY: number }): THREE.Vector2 {
    const box = this.host.getBoundingClientRect()
    const unit = this.span / Math.min(box.width, box.height)
    return new THREE.Vector2(
      this.centre.x + (e.clientX - box.left - box.width / 2) * unit,
      this.centre.y - (e.clientY - box.top - box.height / 2) * unit,
    )
  }

  private grab(at: THREE.Vector2, turning: boolean): IslandDrag | null {
    const { flat, unit } = this
    return IslandDrag.at(this.pieces, at, turning, { flat, unit, gap: 2 * this.zone, margin: this.overlay.margin })
  }

  /** Let go of a drag: `keep` makes it a step, else everything lies as it did. */
  private letGo(keep: boolean): void {
    const { drag } = this
    this.drag = null
    this.overlay.close = []
    this.overlay.note = null
    if (!drag) return
    if (keep) this.events.dropped(drag.move, drag.turning ? 'Turn by hand' : 'Move by hand')
    else drag.back()
    moved()
    this.draw()
  }

  private dragTo(drag: IslandDrag, to: THREE.Vector2, free: boolean): void {
    drag.to(to, this.snap, free)
    moved()
    this.overlay.close = drag.close
    this.overlay.note = { at: [to.x, to.y], text: drag.words }
  }

  /** What is typed while islands are dragged is how far they go; the keys mean nothing else meanwhile. */
  private type(e: KeyboardEvent, last: THREE.Vector2 | null): void {
    const { drag } = this
    if (!intoField(e) && this.missed.takes(e.key, e.timeStamp)) this.events.missed()
    else if (!drag || !last) return
    else if (e.key === 'Enter') this.letGo(true)
    else if (e.key === 'Escape') this.letGo(false)
    else if (drag.typed.press(e.key)) this.dragTo(drag, last, false)
    else return
    e.preventDefault()
    e.stopImmediatePropagation()
    this.draw()
  }

  private listen(): void {
    let from: THREE.Vector2 | null = null
    let last: THREE.Vector2 | null = null
    let resting = 0
    let far = 0
    let way: 'pan' | 'box' | 'lasso' | 'line' | 'points' | 'dragged' = 'pan'
    const twice = doubleClicks()
    const element = this.renderer.domElement
    element.addEventListener('pointerdown', (e) => {
      element.setPointerCapture(e.pointerId)
      from = this.at(e)
      far = 0
      way = e.button === 0 && e.shiftKey ? (e.altKey ? 'lasso' : 'box') : 'pan'
      if (this.fine && e.button === 0 && e.altKey && !e.shiftKey) way = 'line'
      else if (this.fine && e.button === 0 && !e.shiftKey && this.handed.takes(from, 8 * this.unit, this.points))
        way = 'points'
      if (e.button === 0 && !e.shiftKey && !e.ctrlKey && !e.metaKey && !this.fine) this.drag = this.grab(from, e.altKey)
      if (this.drag) way = 'dragged'
    })
    element.addEventListener('pointermove', (e) => {
      if (!from) return
      far += Math.abs(e.movementX) + Math.abs(e.movementY)
      if (far < 4) return
      const to = this.at(e)
      last = to
      this.missed.pulled(way !== 'pan' || e.buttons !== 1)
      if (way === 'points') this.handed.to(to, e.ctrlKey || e.metaKey ? 'none' : this.snap, this.grid())
      else if (this.drag) this.dragTo(this.drag, to, e.ctrlKey || e.metaKey)
      else if (way === 'dragged') return
      else if (way === 'box') this.overlay.box = new THREE.Box2().setFromPoints([from, to])
      else if (way === 'lasso') this.overlay.lasso.push(to)
      else if (way === 'line') this.overlay.lasso = [from, to]
      else this.centre.add(from).sub(to)
      this.draw()
    })
    element.addEventListener('pointerup', (e) => {
      const add = e.ctrlKey || e.metaKey || (e.shiftKey && far < 4)
      const { drag } = this
      this.missed.ended(e.timeStamp)
      if (way === 'points' && far >= 4) this.handed.drop()
      else if (drag && far >= 4) this.letGo(true)
      else if (way === 'line' && far >= 4 && from) this.events.lined(from, this.at(e), e.ctrlKey || e.metaKey)
      else if (this.fine && far >= 4 && (this.overlay.box || this.overlay.lasso.length)) {
        const { box, lasso } = this.overlay
        const around = box ?? new THREE.Box2().setFromPoints(lasso)
        const caught = takenIn(this.pieces, islandsIn(this.pieces, around), (at) =>
          box ? box.containsPoint(at) : holds(lasso, at),
        )
        this.events.caught(caught, e.ctrlKey || e.metaKey)
      } else if (this.overlay.box) this.events.boxed(islandsIn(this.pieces, this.overlay.box), e.ctrlKey || e.metaKey)
      else if (this.overlay.lasso.length)
        this.events.boxed(islandsInside(this.pieces, this.overlay.lasso), e.ctrlKey || e.metaKey)
      else if (from && far < 4) {
        const p = this.at(e)
        const box = this.host.getBoundingClientRect()
        const mark = add || this.fine ? null : this.overlay.hit(e.clientX - box.left, e.clientY - box.top)
        const at = [p.x, p.y] as [number, number]
        const how = { at, add: this.fine ? e.ctrlKey || e.metaKey : add, way: this.fine && e.shiftKey, twice: twice(e) }
        if (mark) this.events.marked(mark)
        else this.events.picked((e.altKey && !this.fine ? takenBelow : takenAt)(this.pieces, p.x, p.y), how)
      }
      this.handed.release()
      from = last = this.overlay.box = this.drag = null
      this.overlay.lasso = []
      this.draw()
    })
    const keys = (e: KeyboardEvent) => this.type(e, last)
    addEventListener('keydown', keys, { capture: true })
    this.unheard = () => removeEventListener('keydown', keys, { capture: true })
    element.addEventListener('pointerleave', () => {
      clearTimeout(resting)
      this.overlay.pointer = null
      this.events.under(null)
      if (this.overlay.rulers) this.draw()
    })
    element.addEventListener('pointermove', (e) => {
      const at = this.at(e)
      this.overlay.pointer = [at.x, at.y]
      if (this.overlay.rulers) this.draw()
      clearTimeout(resting)
      if (from || e.buttons) return
      resting = window.setTimeout(() => this.events.under(pickFlat(this.pieces, at.x, at.y)), RESTING)
      const moves = this.fine
        ? nearPoint(this.pieces, this.points, this.at(e), 8 * this.unit) !== null
        : overSelected(this.pieces, this.at(e))
      element.style.cursor = moves ? 'move' : ''
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

  /** What points snap to: the px of the map, and how far from them something else is near. */
  private grid(): { px: number; near: number } {
    return { px: this.flat?.map_px ?? 2048, near: 8 * this.unit }
  }

  override dispose(): void {
    this.unbrushed()
    this.unheard()
    this.overlay.dispose()
    super.dispose()
  }
}
