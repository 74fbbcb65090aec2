import * as THREE from 'three'
import { NO_ISLAND } from './geometry'
import type { Piece } from './pieces'

/** An edge of an object: a triangle as the file's geometry has it (counted within the object) and one of its sides. */
export interface Edge {
  file: number
  object: number
  triangle: number
  side: number
  /** Its ends in space. */
  a: [number, number, number]
  b: [number, number, number]
}

/** A triangle of an object. */
export interface Face {
  file: number
  object: number
  triangle: number
}

/** A corner of a triangle of an object. */
export interface Point extends Face {
  corner: number
  /** Where it is in space, and in its island: on a seam each side is a point of its own. */
  at: [number, number, number]
  uv: [number, number]
}

/** What is picked of surfaces, by key: an edge has one key from either side. */
export type Edges = ReadonlyMap<string, Edge>
export type Faces = ReadonlyMap<string, Face>
export type Points = ReadonlyMap<string, Point>

const NEAR = 64 // triangles among which the others of a polygon are looked for

/** The same for all corners at one place of an object and of its UVs. */
export const pointKey = (p: Point) => `${p.file}/${p.object}@${p.at.join()}#${p.uv.join()}`

export const faceKey = (f: Face) => `${f.file}/${f.object}/${f.triangle}`

/** The same for both triangles at an edge, since it names the two places that it runs between. */
export function edgeKey(e: Edge): string {
  const ends = [e.a.join(), e.b.join()].sort()
  return `${e.file}/${e.object}:${ends[0]}|${ends[1]}`
}

/** A triangle of a piece, counted in the whole file, as one of an object. */
export function faceAt(p: Piece, triangle: number): Face | null {
  const object = p.data.header.objects.findIndex((o) => triangle >= o.index[0] && triangle < o.index[0] + o.index[1])
  return object < 0 ? null : { file: p.file, object, triangle: triangle - p.data.header.objects[object].index[0] }
}

/** Whether a side of a triangle runs inside a polygon of the file. */
export const isInside = (p: Piece, triangle: number, side: number) =>
  ((p.data.inside?.[triangle] ?? 0) & (1 << side)) !== 0

/** All triangles of the polygon that one belongs to, counted in the whole file: what hangs together over sides that run inside. */
export function polygonAt(p: Piece, triangle: number): number[] {
  const { index, inside } = p.data
  if (!inside?.[triangle]) return [triangle]
  const found = [triangle]
  const sides = (t: number) =>
    [0, 1, 2].filter((k) => isInside(p, t, k)).map((k) => [index[3 * t + k], index[3 * t + ((k + 1) % 3)]])
  for (let n = 0; n < found.length; n++) {
    const mine = sides(found[n])
    // The triangles of a polygon stand together.
    for (let t = Math.max(0, found[n] - NEAR); t <= found[n] + NEAR && 3 * t < index.length; t++)
      if (!found.includes(t) && sides(t).some(([a, b]) => mine.some(([c, d]) => a === d && b === c))) found.push(t)
  }
  return found
}

/** An edge by its triangle in the whole file. */
export function edgeAt(p: Piece, triangle: number, side: number): Edge | null {
  const face = faceAt(p, triangle)
  if (!face) return null
  const { index, position } = p.data
  const point = (k: number) => {
    const v = index[3 * triangle + (k % 3)]
    return [position[3 * v], position[3 * v + 1], position[3 * v + 2]] as [number, number, number]
  }
  return { ...face, side, a: point(side), b: point(side + 1) }
}

/** A corner of a triangle in the whole file. */
export function pointAt(p: Piece, triangle: number, corner: number): Point | null {
  const face = faceAt(p, triangle)
  const v = p.data.index[3 * triangle + corner]
  if (!face) return null
  const { position, uv } = p.data
  const at = [...position.subarray(3 * v, 3 * v + 3)] as [number, number, number]
  return { ...face, corner, at, uv: [uv[2 * v], uv[2 * v + 1]] }
}

/** The corner of a triangle that lies nearest to a place. `at`: where its corners are shown. */
export function nearestCorner(at: THREE.Vector2[], place: THREE.Vector2): number {
  const far = at.map((p) => p.distanceTo(place))
  return far.indexOf(Math.min(...far))
}

/** The edge of an object by its triangle within it. */
export function edgeOf(p: Piece, object: number, triangle: number, side: number): Edge | null {
  const first = p.data.header.objects[object]?.index[0]
  return first === undefined ? null : edgeAt(p, first + triangle, side)
}

/** The side of a triangle that lies nearest to a place, of those that can be seams; -1 for none. `at`: where its corners are shown. */
export function nearestSide(
  p: Piece,
  triangle: number,
  at: THREE.Vector2[],
  place: THREE.Vector2,
): { side: number; far: number } {
  let best = { side: -1, far: Infinity }
  for (let side = 0; side < 3; side++) {
    if (isInside(p, triangle, side)) continue
    const far = distance(place, at[side], at[(side + 1) % 3])
    if (far < best.far) best = { side, far }
  }
  return best
}

/** Distance of a point from a line between two others. */
export function distance(p: THREE.Vector2, a: THREE.Vector2, b: THREE.Vector2): number {
  const d = b.clone().sub(a)
  const t = Math.max(0, Math.min(1, p.clone().sub(a).dot(d) / Math.max(d.lengthSq(), 1e-12)))
  return p.distanceTo(a.clone().addScaledVector(d, t))
}

/** Things that are picked, by the objects that they are of. */
export function byObject<T extends { file: number; object: number }>(
  picked: Iterable<T>,
): [file: number, object: number, T[]][] {
  const out = new Map<string, [number, number, T[]]>()
  for (const x of picked) {
    const key = `${x.file}/${x.object}`
    const mine = out.get(key) ?? [x.file, x.object, []]
    out.set(key, mine)
    mine[2].push(x)
  }
  return [...out.values()]
}

/** The piece that a picked point is of, and its vertex there; null where it is not there, or lies nowhere. */
export function vertexOf(pieces: Piece[], q: Point): [Piece, number] | null {
  const p = pieces.find((x) => x.file === q.file)
  const first = p?.data.header.objects[q.object]?.index[0]
  if (!p || first === undefined) return null
  const v = p.data.index[3 * (first + q.triangle) + q.corner]
  return p.data.island[v] === NO_ISLAND ? null : [p, v]
}

/** Edges for the server: by file, object, triangle and side. */
export function asEdges(edges: Edges): Record<string, number[][]> {
  const out: Record<string, number[][]> = {}
  for (const e of edges.values()) (out[e.file] ??= []).push([e.object, e.triangle, e.side])
  return out
}

/** Points for the server: by file, object, triangle and corner. */
export function asPoints(points: Points): Record<string, number[][]> {
  const out: Record<string, number[][]> = {}
  for (const p of points.values()) (out[p.file] ??= []).push([p.object, p.triangle, p.corner])
  return out
}

/** Faces for the server: by file, object and triangle. */
export function asFaces(faces: Faces): Record<string, number[][]> {
  const out: Record<string, number[][]> = {}
  for (const f of faces.values()) (out[f.file] ??= []).push([f.object, f.triangle])
  return out
}

/** The greater over the smaller singular value by which a triangle is stretched between space and the plane. */
export function stretchOf(p: Piece, triangle: number): number {
  const { index, position, uv } = p.data
  const v = [0, 1, 2].map((k) => index[3 * triangle + k])
  const at = v.map((k) => new THREE.Vector3().fromArray(position, 3 * k))
  const e = at[1].clone().sub(at[0])
  const f = at[2].clone().sub(at[0])
  const long = e.length()
  if (!long) return Infinity
  const x = f.dot(e) / long
  const y = Math.sqrt(Math.max(0, f.lengthSq() - x * x))
  const [du1, dv1] = [uv[2 * v[1]] - uv[2 * v[0]], uv[2 * v[1] + 1] - uv[2 * v[0] + 1]]
  const [du2, dv2] = [uv[2 * v[2]] - uv[2 * v[0]], uv[2 * v[2] + 1] - uv[2 * v[0] + 1]]
  const [a, c] = [du1 / long, dv1 / long]
  const [b, d] = [(du2 - a * x) / y, (dv2 - c * x) / y]
  const q = Math.hypot((a + d) / 2, (c - b) / 2)
  const r = Math.hypot((a - d) / 2, (c + b) / 2)
  return (q + r) / Math.max(Math.abs(q - r), 1e-12)
}
