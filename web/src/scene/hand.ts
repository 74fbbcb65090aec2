import * as THREE from 'three'
import { NO_ISLAND } from './geometry'
import type { Piece } from './pieces'

/** A similarity of the sheet: mirrored in u first, then turned and scaled, then shifted. */
export interface Move {
  angle: number
  mirror: 1 | -1
  scale: number
  u: number
  v: number
}

export const STAY: Move = { angle: 0, mirror: 1, scale: 1, u: 0, v: 0 }

/** Islands by file. */
export type Chosen = Record<string, number[]>

/** Turned, scaled or mirrored about a point. */
export function about(point: THREE.Vector2, { angle = 0, scale = 1, mirror = 1 }: Partial<Move>): Move {
  const x = mirror * point.x
  const c = scale * Math.cos(angle)
  const s = scale * Math.sin(angle)
  return { angle, mirror, scale, u: point.x - (c * x - s * point.y), v: point.y - (s * x + c * point.y) }
}

export function shift(u: number, v: number): Move {
  return { ...STAY, u, v }
}

/** A row of a layout (angle, mirror, scale, u, v) moved on. With M = diag(-1, 1): M R(a) = R(-a) M. */
export function moved(row: ArrayLike<number>, m: Move): [number, number, number, number, number] {
  const c = m.scale * Math.cos(m.angle)
  const s = m.scale * Math.sin(m.angle)
  const x = m.mirror * row[3]
  return [
    m.angle + m.mirror * row[0],
    m.mirror * row[1],
    m.scale * row[2],
    c * x - s * row[4] + m.u,
    s * x + c * row[4] + m.v,
  ]
}

/** Exact boxes of islands as they lie, by "file:island"; one pass over all vertices. */
export function exactBoxes(pieces: Piece[], wanted?: (p: Piece, island: number) => boolean): Map<string, THREE.Box2> {
  const out = new Map<string, THREE.Box2>()
  const at = new THREE.Vector2()
  for (const p of pieces) {
    const boxes: (THREE.Box2 | null | undefined)[] = []
    const { island } = p.data
    for (let v = 0; v < island.length; v++) {
      const i = island[v]
      if (i === NO_ISLAND) continue
      let box = boxes[i]
      if (box === undefined) boxes[i] = box = !wanted || wanted(p, i) ? new THREE.Box2() : null
      box?.expandByPoint(p.placed(v, at))
    }
    boxes.forEach((b, i) => b && out.set(`${p.file}:${i}`, b))
  }
  return out
}

/** The box around all of some boxes. */
export function around(boxes: Iterable<THREE.Box2>): THREE.Box2 {
  const box = new THREE.Box2()
  for (const b of boxes) box.union(b)
  return box
}

/** The smallest shift that brings one of the own edges onto one of the lines, or 0 where none is within reach. */
export function snapTo(own: number[], lines: number[], reach: number): number {
  let best = Infinity
  for (const a of own) for (const b of lines) if (Math.abs(b - a) < Math.abs(best)) best = b - a
  return Math.abs(best) <= reach ? best : 0
}

export type Side = 'left' | 'right' | 'top' | 'bottom'

/** How far each box has to go so that they stand in line at one side of the box around them. */
export function aligned(boxes: THREE.Box2[], side: Side): [number, number][] {
  const all = around(boxes)
  return boxes.map((b) => {
    if (side === 'left') return [all.min.x - b.min.x, 0]
    if (side === 'right') return [all.max.x - b.max.x, 0]
    if (side === 'bottom') return [0, all.min.y - b.min.y]
    return [0, all.max.y - b.max.y]
  })
}

/** How far each box has to go so that the gaps between them are equal, along u or v; the outermost two stay. */
export function spread(boxes: THREE.Box2[], axis: 'x' | 'y'): [number, number][] {
  const order = boxes.map((_, i) => i).sort((a, b) => boxes[a].min[axis] - boxes[b].min[axis])
  const all = around(boxes)
  const sizes = boxes.reduce((n, b) => n + b.max[axis] - b.min[axis], 0)
  const gap = (all.max[axis] - all.min[axis] - sizes) / Math.max(1, boxes.length - 1)
  const out: [number, number][] = boxes.map(() => [0, 0])
  let at = all.min[axis]
  for (const i of order) {
    const by = at - boxes[i].min[axis]
    out[i] = axis === 'x' ? [by, 0] : [0, by]
    at += boxes[i].max[axis] - boxes[i].min[axis] + gap
  }
  return out
}
