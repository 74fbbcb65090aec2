import * as THREE from 'three'
import { NO_ISLAND, type FileGeometry } from './geometry'
import type { Piece } from './pieces'

/** The outline's edges by island: those of island i are `edges[start[i]]` to `edges[start[i + 1] - 1]`. */
export interface Outlines {
  start: Uint32Array
  edges: Uint32Array
}

const known = new WeakMap<FileGeometry, Outlines>()

/** The outlines of a file; sorted once. */
export function outlinesOf(data: FileGeometry): Outlines {
  const found = known.get(data)
  if (found) return found
  const { edge, island, header } = data
  const start = new Uint32Array(header.islands + 1)
  const of = (e: number) => island[edge[2 * e]]
  for (let e = 0; e < edge.length / 2; e++) if (of(e) !== NO_ISLAND) start[of(e) + 1]++
  for (let i = 0; i < header.islands; i++) start[i + 1] += start[i]
  const next = start.slice()
  const edges = new Uint32Array(start[header.islands])
  for (let e = 0; e < edge.length / 2; e++) if (of(e) !== NO_ISLAND) edges[next[of(e)]++] = e
  const made = { start, edges }
  known.set(data, made)
  return made
}

/** The outline of an island as it lies: u0, v0, u1, v1 of each edge. */
export function segments(p: Piece, i: number): Float64Array {
  const { start, edges } = outlinesOf(p.data)
  const out = new Float64Array(4 * (start[i + 1] - start[i]))
  const at = new THREE.Vector2()
  for (let k = start[i]; k < start[i + 1]; k++)
    for (const end of [0, 1]) {
      p.placed(p.data.edge[2 * edges[k] + end], at)
      out.set([at.x, at.y], 4 * (k - start[i]) + 2 * end)
    }
  return out
}

/** The box around segments. */
export function boxOf(s: Float64Array): THREE.Box2 {
  const box = new THREE.Box2()
  const at = new THREE.Vector2()
  for (let k = 0; k < s.length; k += 2) box.expandByPoint(at.set(s[k], s[k + 1]))
  return box
}

/** How thick each island is in UV as read, on average: twice its area over the length of its outline. */
export function thicknesses(data: FileGeometry): Float32Array {
  const { start, edges } = outlinesOf(data)
  const { edge, uv } = data
  return Float32Array.from({ length: data.header.islands }, (_, i) => {
    let long = 0
    for (let k = start[i]; k < start[i + 1]; k++) {
      const [a, b] = [edge[2 * edges[k]], edge[2 * edges[k] + 1]]
      long += Math.hypot(uv[2 * a] - uv[2 * b], uv[2 * a + 1] - uv[2 * b + 1])
    }
    return long > 0 ? (2 * (data.area?.[2 * i] ?? 0)) / long : 1
  })
}
