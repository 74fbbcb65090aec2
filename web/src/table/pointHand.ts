import * as THREE from 'three'
import { vertexOf, type Points } from '../scene/edges'
import type { Line } from '../scene/flat'
import { NO_ISLAND } from '../scene/geometry'
import { PointDrag, type Follow } from '../scene/live'
import { ELSEWHERE, LEFT_OUT, type Piece } from '../scene/pieces'
import type { Snap } from './table'

/** Where the picked point lies that is nearest to a place, within reach; null for none. */
export function nearPoint(pieces: Piece[], points: Points, place: THREE.Vector2, reach: number): THREE.Vector2 | null {
  let best: THREE.Vector2 | null = null
  for (const q of points.values()) {
    const found = vertexOf(pieces, q)
    if (!found) continue
    const at = found[0].placed(found[1], new THREE.Vector2())
    const far = at.distanceTo(place)
    if (far <= (best ? best.distanceTo(place) : reach)) best = at
  }
  return best
}

/** The hand on picked points: taken, dragged, dropped. What follows them is asked for while the drag goes on. */
export class PointHand {
  private from: THREE.Vector2 | null = null
  /** Where the point lay that was taken. */
  private held = new THREE.Vector2()
  private by = new THREE.Vector2()
  private drag: PointDrag | null = null
  private asked: Promise<void> | null = null

  constructor(
    private readonly pieces: () => Piece[],
    private readonly grab: () => Promise<Follow[] | null>,
    private readonly shown: (folds: Line[]) => void,
    private readonly dragged: (follows: Follow[], by: [u: number, v: number]) => void,
  ) {}

  /** Take hold where a picked point is within reach. */
  takes(at: THREE.Vector2, reach: number, points: Points): boolean {
    const found = nearPoint(this.pieces(), points, at, reach)
    if (!found) return false
    this.from = at.clone()
    this.held = found
    this.by.set(0, 0)
    return true
  }

  /** Drag to a place of the sheet. */
  to(at: THREE.Vector2, snap: Snap, grid: { px: number; near: number }): void {
    if (!this.from) return
    this.by = at.clone().sub(this.from)
    const goal = this.held.clone().add(this.by)
    if (snap === 'pixel') goal.multiplyScalar(grid.px).round().divideScalar(grid.px)
    else if (snap === 'near') goal.copy(this.nearest(goal, grid.near) ?? goal)
    this.by = goal.sub(this.held)
    this.asked ??= this.ask()
    this.show()
  }

  private async ask(): Promise<void> {
    const follows = await this.grab()
    this.drag = follows && this.from ? new PointDrag(follows) : null
    this.show()
  }

  private show(): void {
    if (this.drag) this.shown(this.drag.to(this.by))
  }

  /** The nearest other point, else the nearest place on an outline, within reach. */
  private nearest(at: THREE.Vector2, reach: number): THREE.Vector2 | null {
    const moving = new Set(
      this.drag?.follows.flatMap(({ live, object, corners }) => {
        const first = 3 * live.piece.data.header.objects[object].index[0]
        return corners.map((c) => `${live.piece.file}:${live.piece.data.index[first + c]}`)
      }),
    )
    let point: THREE.Vector2 | null = null
    let edge: THREE.Vector2 | null = null
    const [a, b] = [new THREE.Vector2(), new THREE.Vector2()]
    const line = new THREE.Line3()
    for (const p of this.pieces()) {
      const { island, edge: edges } = p.data
      const off = (v: number) =>
        island[v] === NO_ISLAND || (p.mark(island[v]) & (ELSEWHERE | LEFT_OUT)) !== 0 || moving.has(`${p.file}:${v}`)
      for (let v = 0; v < island.length; v++) {
        if (off(v)) continue
        p.placed(v, a)
        if (a.distanceTo(at) <= (point ? point.distanceTo(at) : reach)) point = a.clone()
      }
      for (let e = 0; !point && e < edges.length; e += 2) {
        if (off(edges[e]) || off(edges[e + 1])) continue
        p.placed(edges[e], a)
        p.placed(edges[e + 1], b)
        line.start.set(a.x, a.y, 0)
        line.end.set(b.x, b.y, 0)
        const on = line.closestPointToPoint(new THREE.Vector3(at.x, at.y, 0), true, new THREE.Vector3())
        const there = new THREE.Vector2(on.x, on.y)
        if (there.distanceTo(at) <= (edge ? edge.distanceTo(at) : reach)) edge = there
      }
    }
    return point ?? edge
  }

  /** Let go where they are: it becomes a step, as soon as it is known what follows. */
  drop(): void {
    const { by, asked } = this
    if (!this.from || !asked) return
    void asked.then(() => {
      const { drag } = this
      this.drag = this.asked = null
      if (!drag) return
      this.shown([])
      this.dragged(drag.follows, [by.x, by.y])
    })
    this.from = null
  }

  /** Nothing is held any more. */
  release(): void {
    if (this.from && !this.drag) this.asked = null
    this.from = null
  }
}
