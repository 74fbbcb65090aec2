import * as THREE from 'three'
import { describe, expect, it } from 'vitest'
import { asEdges, asFaces, distance, edgeKey, nearestSide, polygonAt, stretchOf, type Edge } from './edges'
import type { Piece } from './pieces'

/** Two triangles of a unit square; the diagonal is inside a polygon. Its UVs are twice as wide as high. */
const square = {
  file: 7,
  data: {
    header: { objects: [{ index: [0, 2] }] },
    position: new Float32Array([0, 0, 0, 1, 0, 0, 1, 1, 0, 0, 1, 0]),
    uv: new Float32Array([0, 0, 2, 0, 2, 1, 0, 1]),
    index: new Uint32Array([0, 1, 2, 0, 2, 3]),
    inside: new Uint32Array([4, 1]),
  },
} as unknown as Piece

// The corners of the first triangle, seen from above.
const flat = [new THREE.Vector2(0, 0), new THREE.Vector2(1, 0), new THREE.Vector2(1, 1)]
const edge = (triangle: number, side: number, a: Edge['a'], b: Edge['b']): Edge => ({
  file: 7,
  object: 0,
  triangle,
  side,
  a,
  b,
})

describe('edges', () => {
  it('have one key from either side', () => {
    const one = edge(0, 1, [1, 0, 0], [1, 1, 0])
    expect(edgeKey(edge(5, 2, [1, 1, 0], [1, 0, 0]))).toBe(edgeKey(one))
    expect(edgeKey({ ...one, object: 1 })).not.toBe(edgeKey(one))
  })

  it('are told by the nearest side, and never inside a polygon', () => {
    expect(nearestSide(square, 0, flat, new THREE.Vector2(0.5, 0.1)).side).toBe(0)
    expect(nearestSide(square, 0, flat, new THREE.Vector2(0.9, 0.5)).side).toBe(1)
    expect(nearestSide(square, 0, flat, new THREE.Vector2(0.5, 0.49)).side).not.toBe(2)
  })

  it('go to the server by file', () => {
    expect(asEdges(new Map([['k', edge(3, 2, [0, 0, 0], [1, 0, 0])]]))).toEqual({ 7: [[0, 3, 2]] })
    expect(asFaces(new Map([['k', { file: 7, object: 0, triangle: 3 }]]))).toEqual({ 7: [[0, 3]] })
  })

  it('measures how far a point is from a line', () => {
    expect(distance(new THREE.Vector2(0, 1), new THREE.Vector2(-1, 0), new THREE.Vector2(1, 0))).toBeCloseTo(1)
    expect(distance(new THREE.Vector2(3, 0), new THREE.Vector2(-1, 0), new THREE.Vector2(1, 0))).toBeCloseTo(2)
  })
})

describe('polygons', () => {
  it('are all triangles that hang together over sides that run inside', () => {
    expect(polygonAt(square, 0).sort()).toEqual([0, 1])
    const alone = { ...square, data: { ...square.data, inside: undefined } } as unknown as Piece
    expect(polygonAt(alone, 1)).toEqual([1])
  })
})

describe('stretch', () => {
  it('is the ratio of the singular values', () => {
    expect(stretchOf(square, 0)).toBeCloseTo(2)
    expect(stretchOf(square, 1)).toBeCloseTo(2)
  })
})
