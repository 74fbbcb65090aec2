import * as THREE from 'three'
import {
  edgeAt,
  edgeOf,
  faceAt,
  isInside,
  nearestCorner,
  nearestSide,
  pointAt,
  polygonAt,
  vertexOf,
  type Edge,
  type Edges,
  type Face,
  type Faces,
  type Point,
  type Points,
} from './edges'
import { NO_ISLAND } from './geometry'
import { SELECTED, type Hit, type Piece } from './pieces'
import { allUnder, cornersUnder } from './under'

/** What a click took: the island or object, the edge nearest to it, and the triangles of the polygon there. */
export interface Taken {
  hit: Hit | null
  edge: Edge | null
  faces: Face[]
  /** The corner that is nearest. */
  point: Point | null
}

export interface How {
  add: boolean
  /** With Shift: the way from the last one. */
  way: boolean
  twice: boolean
  /** Where on the sheet. */
  at?: [u: number, v: number]
}

/** Something to draw on the sheet: corners of a line or a triangle, in UV. */
export type Line = [u: number, v: number][]

/** Where nothing lies. */
export const NOTHING: Taken = { hit: null, edge: null, faces: [], point: null }

const STEPS = 64 // places of a line at which it is looked what lies there
const MOST = 3000 // edges or faces that are drawn on the table

/** What lies under a point of the sheet. */
export function takenAt(pieces: Piece[], u: number, v: number): Taken {
  const found = cornersUnder(pieces, u, v)
  return found ? taken(found, u, v) : NOTHING
}

/** The same of the next island below the selected one of those that lie there; the last of all once the lowest is selected. */
export function takenBelow(pieces: Piece[], u: number, v: number): Taken {
  const found = allUnder(pieces, u, v)
  if (!found.length) return NOTHING
  const at = found.findIndex(([p, [a]]) => p.mark(p.data.island[a]) & SELECTED)
  return taken(found[(at + 1) % found.length], u, v)
}

function taken([p, [a, b, c]]: [Piece, [number, number, number]], u: number, v: number): Taken {
  const { index } = p.data
  let triangle = 0
  while (index[3 * triangle] !== a || index[3 * triangle + 1] !== b || index[3 * triangle + 2] !== c) triangle++
  const at = [a, b, c].map((k) => p.placed(k, new THREE.Vector2()))
  return takenOf(p, triangle, at, new THREE.Vector2(u, v))
}

/** What a triangle stands for at a place; `at`: where its corners are shown. */
export function takenOf(p: Piece, triangle: number, at: THREE.Vector2[], place: THREE.Vector2): Taken {
  const { side } = nearestSide(p, triangle, at, place)
  const v = p.data.index[3 * triangle]
  const island = p.data.island[v]
  return {
    hit: { file: p.file, object: p.objectOf[v], island: island === NO_ISLAND ? null : island },
    edge: side < 0 ? null : edgeAt(p, triangle, side),
    faces: polygonAt(p, triangle).map((t) => faceAt(p, t)!),
    point: pointAt(p, triangle, nearestCorner(at, place)),
  }
}

/** Tells whether a click is the second of two. */
export function doubleClicks(): (e: { clientX: number; clientY: number; timeStamp: number }) => boolean {
  let last = { x: 0, y: 0, time: 0 }
  return (e) => {
    const near = Math.abs(e.clientX - last.x) + Math.abs(e.clientY - last.y) < 6
    const twice = near && e.timeStamp - last.time < 400
    last = { x: e.clientX, y: e.clientY, time: twice ? 0 : e.timeStamp }
    return twice
  }
}

/** All edges and faces whose middles lie in a part of the sheet, of the islands in `near`. */
export function takenIn(
  pieces: Piece[],
  near: readonly (readonly [file: number, island: number])[],
  holds: (at: THREE.Vector2) => boolean,
): { edges: Edge[]; faces: Face[]; points: Point[] } {
  const edges: Edge[] = []
  const faces: Face[] = []
  const points: Point[] = []
  const at = [0, 1, 2].map(() => new THREE.Vector2())
  const middle = new THREE.Vector2()
  for (const p of pieces) {
    const mine = new Set(near.filter(([file]) => file === p.file).map(([, island]) => island))
    if (!mine.size) continue
    const { index, island } = p.data
    for (let t = 0; 3 * t < index.length && edges.length < MOST && faces.length < MOST; t++) {
      if (!mine.has(island[index[3 * t]])) continue
      at.forEach((place, k) => p.placed(index[3 * t + k], place))
      if (holds(middle.copy(at[0]).add(at[1]).add(at[2]).divideScalar(3))) faces.push(faceAt(p, t)!)
      for (let k = 0; k < 3; k++) if (holds(at[k]) && points.length < MOST) points.push(pointAt(p, t, k)!)
      for (let side = 0; side < 3; side++)
        if (!isInside(p, t, side) && holds(middle.lerpVectors(at[side], at[(side + 1) % 3], 0.5)))
          edges.push(edgeAt(p, t, side)!)
    }
  }
  return { edges, faces, points }
}

/** Whether a closed line goes around a point: it is crossed an odd number of times to the right of it. */
export function holds(line: THREE.Vector2[], p: THREE.Vector2): boolean {
  let inside = false
  for (let i = 0, j = line.length - 1; i < line.length; j = i++) {
    const [a, b] = [line[i], line[j]]
    if (a.y > p.y !== b.y > p.y && p.x < ((b.x - a.x) * (p.y - a.y)) / (b.y - a.y) + a.x) inside = !inside
  }
  return inside
}

/** Where picked edges lie on the sheet: both sides of each, since a seam has two. */
export function edgesOnSheet(pieces: Piece[], edges: Edges): Line[] {
  const out: Line[] = []
  for (const p of pieces) {
    const mine = [...edges.values()].filter((e) => e.file === p.file).slice(0, MOST)
    for (const object of new Set(mine.map((e) => e.object))) {
      const wanted = new Map<number, Edge[]>()
      for (const e of mine)
        if (e.object === object) {
          const key = mixed(e.a) + mixed(e.b)
          wanted.set(key, [...(wanted.get(key) ?? []), e])
        }
      out.push(...sidesOf(p, object, wanted))
    }
  }
  return out
}

/** Of an object's triangles, all sides that run where wanted edges do, placed. */
function sidesOf(p: Piece, object: number, wanted: Map<number, Edge[]>): Line[] {
  const { index, position, island, header } = p.data
  const [first, count] = header.objects[object].index
  const point = (v: number) => [position[3 * v], position[3 * v + 1], position[3 * v + 2]]
  const same = (x: number[], y: number[]) => x[0] === y[0] && x[1] === y[1] && x[2] === y[2]
  const out: Line[] = []
  const at = new THREE.Vector2()
  const mix = [0, 0, 0]
  for (let t = 3 * first; t < 3 * (first + count); t += 3) {
    if (island[index[t]] === NO_ISLAND) continue
    for (let k = 0; k < 3; k++) mix[k] = mixed(position, 3 * index[t + k])
    for (let k = 0; k < 3; k++) {
      const found = wanted.get(mix[k] + mix[(k + 1) % 3])
      if (!found) continue
      const [v, w] = [index[t + k], index[t + ((k + 1) % 3)]]
      const [a, b] = [point(v), point(w)]
      if (found.some((e) => (same(e.a, a) && same(e.b, b)) || (same(e.a, b) && same(e.b, a))))
        out.push([v, w].map((n) => p.placed(n, at).toArray() as [number, number]))
    }
  }
  return out
}

/** Where picked faces lie on the sheet. */
export function facesOnSheet(pieces: Piece[], faces: Faces): Line[] {
  const out: Line[] = []
  const at = new THREE.Vector2()
  for (const f of [...faces.values()].slice(0, MOST)) {
    const p = pieces.find((q) => q.file === f.file)
    const first = p?.data.header.objects[f.object]?.index[0]
    if (!p || first === undefined) continue
    const corners = [0, 1, 2].map((k) => p.data.index[3 * (first + f.triangle) + k])
    if (p.data.island[corners[0]] !== NO_ISLAND)
      out.push(corners.map((v) => p.placed(v, at).toArray() as [number, number]))
  }
  return out
}

/** Where picked points lie on the sheet. */
export function pointsOnSheet(pieces: Piece[], points: Points): [u: number, v: number][] {
  const at = new THREE.Vector2()
  const out: [number, number][] = []
  for (const q of points.values()) {
    const found = vertexOf(pieces, q)
    if (found) out.push(found[0].placed(found[1], at).toArray() as [number, number])
  }
  return out
}

/** A triangle of every island that a straight line crosses on the sheet, and the line in the island's own UVs. */
export function crossed(pieces: Piece[], from: THREE.Vector2, to: THREE.Vector2): { edge: Edge; line: Line }[] {
  const found = new Map<string, { edge: Edge; line: Line }>()
  const at = new THREE.Vector2()
  for (let k = 0; k <= STEPS; k++) {
    at.lerpVectors(from, to, k / STEPS)
    const { hit, point } = takenAt(pieces, at.x, at.y)
    const p = pieces.find((x) => x.file === hit?.file)
    if (!hit || hit.island === null || !p || !point) continue
    const key = `${hit.file}:${hit.island}`
    const own = (v: THREE.Vector2) => p.unplaced(hit.island!, v).toArray() as [number, number]
    if (!found.has(key)) found.set(key, { edge: edgeOf(p, hit.object, point.triangle, 0)!, line: [own(from), own(to)] })
  }
  return [...found.values()]
}

/** A number of a point that is the same wherever it stands; two points may share one, so it only narrows the search. */
const mixed = (p: ArrayLike<number>, k = 0) => p[k] * 73.137 + p[k + 1] * 179.291 + p[k + 2] * 283.713
