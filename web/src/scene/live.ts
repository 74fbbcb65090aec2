import * as THREE from 'three'
import { NO_ISLAND } from './geometry'
import { refreshOutline, type Piece } from './pieces'
import type { Line } from './flat'

/** UVs of a piece while a hand changes them: shown at once, and taken back where the change is not made. */
export class Live {
  private readonly before: Float32Array

  constructor(readonly piece: Piece) {
    this.before = piece.data.uv.slice()
  }

  /** Give corners (3 t + k) of an object's triangles other UVs; every object that shows the same mesh has them. */
  set(object: number, corners: readonly number[], uv: (k: number, vertex: number) => readonly [number, number]): void {
    const { uv: uvs } = this.piece.data
    for (const first of this.sharing(object))
      for (let k = 0; k < corners.length; k++) {
        const v = this.piece.data.index[first + corners[k]]
        uvs.set(uv(k, v), 2 * v)
      }
    this.shown()
  }

  /** The vertices at corners of an object's triangles, on every object that shows the same mesh. */
  vertices(object: number, corners: readonly number[]): number[] {
    return this.sharing(object).flatMap((first) => corners.map((c) => this.piece.data.index[first + c]))
  }

  /** Where the corners begin of each object that shows the same mesh as this one. */
  private sharing(object: number): number[] {
    const { objects } = this.piece.data.header
    const [begin, end] = objects[object].islands
    return objects.filter((o) => o.islands[0] === begin && o.islands[1] === end).map((o) => 3 * o.index[0])
  }

  /** A vertex's UV before the hand came. */
  was(vertex: number): [number, number] {
    return [this.before[2 * vertex], this.before[2 * vertex + 1]]
  }

  /** Everything as it was. */
  restore(): void {
    this.piece.data.uv.set(this.before)
    this.shown()
  }

  private shown(): void {
    const { geometry } = this.piece
    geometry.getAttribute('uv').needsUpdate = true
    refreshOutline(this.piece)
  }

  /** Triangles (numbers in the file) that a change turned over, placed on the sheet. */
  folded(triangles: readonly number[]): Line[] {
    const { data } = this.piece
    const at = new THREE.Vector2()
    return triangles
      .filter((t) => {
        const v = [0, 1, 2].map((k) => data.index[3 * t + k])
        const now = doubled(v.map((x) => [data.uv[2 * x], data.uv[2 * x + 1]]))
        return now * doubled(v.map((x) => this.was(x))) <= 0
      })
      .map((t) => [0, 1, 2].map((k) => this.piece.placed(data.index[3 * t + k], at).toArray() as [number, number]))
  }
}

/** Twice the area of a triangle, below 0 where it runs clockwise. */
function doubled([a, b, c]: number[][]): number {
  return (b[0] - a[0]) * (c[1] - a[1]) - (c[0] - a[0]) * (b[1] - a[1])
}

/** Corners that follow picked points of an object, and how much. */
export interface Follow {
  live: Live
  object: number
  corners: number[]
  weights: number[]
}

/** Points that are dragged over the sheet, with what follows them. */
export class PointDrag {
  /** For each of what follows its triangles that change. */
  private readonly triangles: number[][]

  constructor(readonly follows: Follow[]) {
    this.triangles = follows.map(({ live, object, corners }) => {
      const { index, header } = live.piece.data
      const [first, count] = header.objects[object].index
      const moved = new Set(corners.map((c) => index[3 * first + c]))
      const out: number[] = []
      for (let t = first; t < first + count; t++)
        if (moved.has(index[3 * t]) || moved.has(index[3 * t + 1]) || moved.has(index[3 * t + 2])) out.push(t)
      return out
    })
  }

  /** Everything by so much on the sheet; what is folded then. */
  to(by: THREE.Vector2): Line[] {
    for (const { live, object, corners, weights } of this.follows) {
      const { piece } = live
      const steps = new Map<number, THREE.Vector2>()
      const own = (island: number) => {
        let d = steps.get(island)
        if (!d) steps.set(island, (d = piece.unplaced(island, by).sub(piece.unplaced(island, new THREE.Vector2()))))
        return d
      }
      live.set(object, corners, (k, v) => {
        const [u, w] = live.was(v)
        const island = piece.data.island[v]
        if (island === NO_ISLAND) return [u, w]
        const d = own(island)
        return [u + weights[k] * d.x, w + weights[k] * d.y]
      })
    }
    return this.follows.flatMap(({ live }, n) => live.folded(this.triangles[n]))
  }

  restore(): void {
    for (const { live } of this.follows) live.restore()
  }
}
