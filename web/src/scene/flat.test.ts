import * as THREE from 'three'
import { describe, expect, it } from 'vitest'
import { edgeKey, faceKey, type Edge, type Face } from './edges'
import { edgesOnSheet, facesOnSheet, takenAt, takenBelow, takenIn } from './flat'
import { Piece, SELECTED } from './pieces'

// Two squares that share an edge in space (x = 1) and lie apart on the sheet; each is a polygon of two triangles.
const position = new Float32Array([0, 0, 0, 1, 0, 0, 1, 1, 0, 0, 1, 0, 1, 0, 0, 2, 0, 0, 2, 1, 0, 1, 1, 0])
const uv = new Float32Array([0, 0, 0.2, 0, 0.2, 0.2, 0, 0.2, 0.5, 0.5, 0.7, 0.5, 0.7, 0.7, 0.5, 0.7])
const index = new Uint32Array([0, 1, 2, 0, 2, 3, 4, 5, 6, 4, 6, 7])
const data = {
  header: { islands: 2, objects: [{ index: [0, 4], islands: [0, 2], edge: [0, 0], table: true, groups: [] }] },
  index,
  position,
  uv,
  island: new Uint32Array([0, 0, 0, 0, 1, 1, 1, 1]),
  edge: new Uint32Array(),
  inside: new Uint8Array([4, 1, 4, 1]),
}
const piece = () => new Piece(7, data as never, 0)
const one = (e: Edge) => new Map([[edgeKey(e), e]])

describe('picking on the table', () => {
  it('takes the polygon under a point and the nearest edge that can be a seam', () => {
    const p = piece()
    const { edge, faces, hit } = takenAt([p], 0.19, 0.1)
    expect(hit).toEqual({ file: 7, object: 0, island: 0 })
    expect(faces.map((f) => f.triangle).sort()).toEqual([0, 1])
    expect([edge!.a, edge!.b]).toEqual([
      [1, 0, 0],
      [1, 1, 0],
    ])
    expect(takenAt([p], 0.4, 0.4).edge).toBeNull()
  })
  it('goes through what lies in one place, and begins again after the lowest', () => {
    const stacked = { ...data, uv: new Float32Array([...uv.slice(0, 8), ...uv.slice(0, 8)]) }
    const p = new Piece(7, stacked as never, 0)
    const below = () => takenBelow([p], 0.1, 0.08).hit?.island
    const select = (island: number) => p.setStates((i) => [0, i === island ? SELECTED : 0])
    expect(below()).toBe(1)
    select(1)
    expect(below()).toBe(0)
    select(0)
    expect(below()).toBe(1)
    expect(takenBelow([p], 0.5, 0.08).hit).toBeNull()
  })
  it('shows both sides of an edge, where they lie', () => {
    const p = piece()
    const lines = edgesOnSheet([p], one(takenAt([p], 0.19, 0.1).edge!))
    expect(lines).toHaveLength(2)
    expect(lines.map((l) => l.map(([u]) => Math.round(10 * u)))).toEqual([
      [2, 2],
      [5, 5],
    ])
  })
  it('takes what lies in a box', () => {
    const p = piece()
    const box = new THREE.Box2(new THREE.Vector2(0.45, 0.45), new THREE.Vector2(0.75, 0.75))
    const all = [[7, 0] as const, [7, 1] as const]
    const { edges, faces } = takenIn([p], all, (at) => box.containsPoint(at))
    expect(faces.map((f: Face) => f.triangle)).toEqual([2, 3])
    expect(edges).toHaveLength(4)
    expect(facesOnSheet([p], new Map(faces.map((f) => [faceKey(f), f])))).toHaveLength(2)
  })
})
