import * as THREE from 'three'
import { about, around, exactBoxes, moved, shift, snapTo, type Move } from '../scene/hand'
import { ELSEWHERE, LEFT_OUT, SELECTED, type Piece } from '../scene/pieces'
import { allUnder } from '../scene/under'
import { placeOf, pxOf, tilesOf, type Flat } from '../scene/sheets'
import { Neighbours, type Close } from './closeness'
import type { Snap } from './table'
import { Typed } from './typed'

/** What a drag of islands has to know of the sheet: the gap between islands and the margin in px, and a pixel of the screen in UV. */
export interface Ground {
  flat: Flat | null
  gap: number
  margin: number
  unit: number
}

const STEP = Math.PI / 12

/** A drag of the selected islands: the layout as it was, the selection's box, and the lines that it snaps to. */
export class IslandDrag {
  move: Move = shift(0, 0)
  /** Where what is dragged comes too near to what stays. */
  close: Close[] = []
  /** A distance that is typed meanwhile; it counts instead of the place of the pointer. */
  readonly typed = new Typed()
  private readonly neighbours: Neighbours
  private readonly tables: Map<Piece, Float32Array>
  private readonly box: THREE.Box2
  private readonly lines = { x: [] as number[], y: [] as number[] }

  private constructor(
    pieces: Piece[],
    private readonly from: THREE.Vector2,
    readonly turning: boolean,
    private readonly ground: Ground,
  ) {
    const { flat, gap, margin } = ground
    const boxes = exactBoxes(pieces, (p, i) => !(p.mark(i) & (ELSEWHERE | LEFT_OUT)))
    const mine: THREE.Box2[] = []
    for (const p of pieces)
      for (let i = 0; i < p.islands; i++) {
        const b = boxes.get(`${p.file}:${i}`)
        if (!b) continue
        if (p.mark(i) & SELECTED) mine.push(b)
        else
          this.line(b.min.x - gap / p.px[i], b.max.x + gap / p.px[i], b.min.y - gap / p.px[i], b.max.y + gap / p.px[i])
      }
    for (const t of flat ? tilesOf(flat.sheet) : []) {
      const [column, row] = placeOf(t)
      const m = margin / pxOf(flat!, t)
      this.line(column + m, column + 1 - m, row + m, row + 1 - m)
    }
    this.neighbours = new Neighbours(boxes, pieces, (p, i) => (p.mark(i) & SELECTED) !== 0)
    this.tables = new Map(pieces.map((p) => [p, p.table.slice()]))
    this.box = around(mine)
  }

  /** Take hold of the selection where a selected island lies, under whatever else lies there; null elsewhere. */
  static at(pieces: Piece[], at: THREE.Vector2, turning: boolean, ground: Ground): IslandDrag | null {
    const held = allUnder(pieces, at.x, at.y).some(([p, [a]]) => p.mark(p.data.island[a]) & SELECTED)
    return held ? new IslandDrag(pieces, at, turning, ground) : null
  }

  private line(x0: number, x1: number, y0: number, y1: number): void {
    this.lines.x.push(x0, x1)
    this.lines.y.push(y0, y1)
  }

  /** Drag to a place of the sheet, and lay the selection there; `free`: without snapping. */
  to(place: THREE.Vector2, snap: Snap, free: boolean): void {
    this.move = this.turning ? this.turned(place, free) : this.shifted(place, snap, free)
    this.lay(this.move)
    this.close = this.neighbours.find(this.ground.gap)
  }

  /** Lay everything where it was before the drag. */
  back(): void {
    this.lay(shift(0, 0))
  }

  /** How far it goes, in words; with what is typed of it. */
  get words(): string {
    const { text } = this.typed
    if (this.turning) return text ? `${text}°` : `${((this.move.angle * 180) / Math.PI).toFixed(1)}°`
    const px = this.ground.flat?.map_px ?? 1
    const far = (n: number) => String(Math.round(10 * n * px) / 10)
    return text ? `${text} px` : `${far(this.move.u)}, ${far(this.move.v)} px`
  }

  private lay(move: Move): void {
    for (const [p, old] of this.tables) {
      const table = old.slice()
      for (let i = 0; i < p.islands; i++)
        if (p.mark(i) & SELECTED) table.set(moved(old.subarray(5 * i, 5 * i + 5), move), 5 * i)
      p.setTable(table)
    }
  }

  private turned(place: THREE.Vector2, free: boolean): Move {
    const middle = this.box.getCenter(new THREE.Vector2())
    const degrees = this.typed.numbers?.[0]
    if (degrees !== undefined) return about(middle, { angle: (degrees * Math.PI) / 180 })
    const angle = place.clone().sub(middle).angle() - this.from.clone().sub(middle).angle()
    return about(middle, { angle: free ? angle : Math.round(angle / STEP) * STEP })
  }

  private shifted(place: THREE.Vector2, snap: Snap, free: boolean): Move {
    const { flat, unit } = this.ground
    const { min, max } = this.box
    let [u, v] = [place.x - this.from.x, place.y - this.from.y]
    const typed = flat && this.typed.shift(u, v)
    if (typed) return shift(typed[0] / flat.map_px, typed[1] / flat.map_px)
    if (snap === 'tile') [u, v] = [Math.round(u), Math.round(v)]
    else if (snap === 'pixel' && flat && !free) {
      const px = flat.map_px
      u = Math.round((min.x + u) * px) / px - min.x
      v = Math.round((min.y + v) * px) / px - min.y
    } else if (snap === 'near' && !free) {
      u += snapTo([min.x + u, max.x + u], this.lines.x, 8 * unit)
      v += snapTo([min.y + v, max.y + v], this.lines.y, 8 * unit)
    }
    return shift(u, v)
  }
}
