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

/** One drag: where it was taken and the point that was taken, how it goes, and what follows once that is known. */
interface Held {
  from: THREE.Vector2
  point: THREE.Vector2
  to: { at: THREE.Vector2; snap: Snap; grid: { px: number; near: number } } | null
  drag: PointDrag | null
  asked: Promise<void> | null
}

/** The hand on picked points: taken, dragged, dropped. What follows them is asked for while the drag goes on, and may be known only after they were let go. */
export class PointHand {
  private held: Held | null = null

  constructor(
    private readonly pieces: () => Piece[],
    private readonly grab: () => Promise<Follow[] | null>,
    private readonly shown: (folds: Line[]) => void,
    private readonly dragged: (follows: Follow[], by: [u: number, v: number]) => void,
  ) {}

  /** Take hold where a picked point is within reach. */
  takes(at: THREE.Vector2, reach: number, points: Points): boolean {
    const point = nearPoint(this.pieces(), points, at, reach)
    if (!point) return false
    this.held = { from: at.clone(), point, to: null, drag: null, asked: null }
    return true
  }

  /** Drag to a place of the sheet. */
  to(at: THREE.Vector2, snap: Snap, grid: { px: number; near: number }): void {
    const { held } = this
    if (!held) return
    held.to = { at: at.clone(), snap, grid }
    held.asked ??= this.ask(held)
    this.show(held)
  }

  private async ask(held: Held): Promise<void> {
    const follows = await this.grab()
    held.drag = follows && new PointDrag(follows)
    this.show(held)
  }

  private show(held: Held): void {
    if (held.drag) this.shown(held.drag.to(this.by(held)))
  }

  /** How far the taken point goes, snapped. */
  private by({ from, point, to, drag }: Held): THREE.Vector2 {
    if (!to) return new THREE.Vector2()
    const goal = point.clone().add(to.at).sub(from)
    if (to.snap === 'pixel') goal.multiplyScalar(to.grid.px).round().divideScalar(to.grid.px)
    else if (to.snap === 'near') goal.copy(this.nearest(goal, to.grid.near, drag) ?? goal)
    return goal.sub(point)
  }

  /** The nearest other point, else the nearest place on an outline, within reach. */
  private nearest(at: THREE.Vector2, reach: number, drag: PointDrag | null): THREE.Vector2 | null {
    const moving = new Set(
      drag?.follows.flatMap(({ live, object, corners }) =>
        live.vertices(object, corners).map((v) => `${live.piece.file}:${v}`),
      ),
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
    const { held } = this
    this.held = null
    void held?.asked?.then(() => {
      if (!held.drag) return
      this.shown([])
      this.dragged(held.drag.follows, this.by(held).toArray())
    })
  }

  /** Nothing is held any more. */
  release(): void {
    this.held = null
  }
}
