import * as THREE from 'three'
import { describe, expect, it } from 'vitest'
import { pointAt, pointKey, type Points } from './edges'
import { Live, PointDrag, type Follow } from './live'
import { Piece } from './pieces'
import { nearPoint, PointHand } from '../table/pointHand'

// Two squares of two triangles each, islands of one object; a second object shows the same mesh.
const position = new Float32Array([0, 0, 0, 1, 0, 0, 1, 1, 0, 0, 1, 0, 1, 0, 0, 2, 0, 0, 2, 1, 0, 1, 1, 0])
const uv = [0, 0, 0.2, 0, 0.2, 0.2, 0, 0.2, 0.5, 0.5, 0.7, 0.5, 0.7, 0.7, 0.5, 0.7]
const index = [0, 1, 2, 0, 2, 3, 4, 5, 6, 4, 6, 7]

function piece(): Piece {
  const twice = <T>(a: ArrayLike<T>) => [...Array.from(a), ...Array.from(a)]
  const objects = [0, 4].map((first) => ({
    index: [first, 4],
    islands: [0, 2],
    edge: [0, first ? 0 : 2],
    table: !first,
  }))
  return new Piece(
    7,
    {
      header: { islands: 2, objects, arrays: [] },
      index: new Uint32Array([...index, ...index.map((k) => k + 8)]),
      position: new Float32Array(twice(position)),
      uv: new Float32Array(twice(uv)),
      island: new Uint32Array(twice([0, 0, 0, 0, 1, 1, 1, 1])),
      edge: new Uint32Array([0, 1, 1, 2]),
    } as never,
    0,
  )
}

const at = (p: Piece, v: number) => [...p.data.uv.subarray(2 * v, 2 * v + 2)].map((x) => Math.round(1000 * x) / 1000)

describe('UVs under a hand', () => {
  it('are shown on every object of the mesh, on the outline, and are taken back', () => {
    const p = piece()
    const live = new Live(p)
    live.set(0, [1, 3 * 2], () => [0.25, 0.5])
    // Corner 1 is vertex 1, corner 6 is vertex 4; both objects have them.
    expect([1, 4, 9, 12].map((v) => at(p, v))).toEqual(Array(4).fill([0.25, 0.5]))
    expect([...p.outline.getAttribute('ends').array].map((x) => Math.round(100 * x) / 100)).toEqual([
      0, 0, 0.25, 0.5, 0.25, 0.5, 0.2, 0.2,
    ])
    live.restore()
    expect([1, 4].map((v) => at(p, v))).toEqual([
      [0.2, 0],
      [0.5, 0.5],
    ])
  })

  it('go as far on the sheet as the hand, whichever way their island is turned', () => {
    const p = piece()
    const table = p.table.slice()
    // The second island turned by a right angle, mirrored, twice as large.
    table.set([Math.PI / 2, -1, 2, 0.1, 0.3], 5)
    p.setTable(table)
    const drag = new PointDrag([{ live: new Live(p), object: 0, corners: [0, 3, 6, 9], weights: [1, 1, 0.5, 0.5] }])
    const before = [0, 4].map((v) => p.placed(v, new THREE.Vector2()))
    drag.to(new THREE.Vector2(0.03, -0.01))
    const went = [0, 4].map((v, n) => p.placed(v, new THREE.Vector2()).sub(before[n]))
    expect(went[0].x).toBeCloseTo(0.03, 6)
    expect(went[0].y).toBeCloseTo(-0.01, 6)
    expect(went[1].x).toBeCloseTo(0.015, 6)
    expect(went[1].y).toBeCloseTo(-0.005, 6)
  })

  it('are marked where a triangle turns over, and only there', () => {
    const p = piece()
    const drag = new PointDrag([{ live: new Live(p), object: 0, corners: [1], weights: [1] }])
    expect(drag.to(new THREE.Vector2(-0.05, 0.02))).toHaveLength(0)
    expect(drag.to(new THREE.Vector2(-0.15, 0.15))).toHaveLength(1)
    drag.restore()
    expect(at(p, 1)).toEqual([0.2, 0])
  })
})

describe('the hand on points', () => {
  const picked = (p: Piece, triangle: number, corner: number): Points => {
    const point = pointAt(p, triangle, corner)!
    return new Map([[pointKey(point), point]])
  }

  it('takes hold of a picked point within reach', () => {
    const p = piece()
    const points = picked(p, 0, 2)
    expect(
      nearPoint([p], points, new THREE.Vector2(0.21, 0.2), 0.02)
        ?.toArray()
        .map((x) => x.toFixed(2)),
    ).toEqual(['0.20', '0.20'])
    expect(nearPoint([p], points, new THREE.Vector2(0.3, 0.2), 0.02)).toBeNull()
  })

  it.each([
    ['none', [0.333, 0.201], [0.333, 0.201]],
    ['pixel', [0.333, 0.201], [0.3, 0.2]],
    // Another point, then the middle of an edge of the outline.
    ['near', [0.504, 0.497], [0.5, 0.5]],
    ['near', [0.1, 0.004], [0.1, 0]],
  ] as const)('snaps to %s', async (snap, to, wanted) => {
    const p = piece()
    const dropped: number[][] = []
    const follows = [{ live: new Live(p), object: 0, corners: [2, 4], weights: [1, 1] }]
    const hand = new PointHand(
      () => [p],
      () => Promise.resolve(follows),
      () => undefined,
      (_, by) => dropped.push(by),
    )
    expect(hand.takes(new THREE.Vector2(0.2, 0.2), 0.01, picked(p, 0, 2))).toBe(true)
    hand.to(new THREE.Vector2(...to), snap, { px: 10, near: 0.01 })
    await Promise.resolve()
    hand.to(new THREE.Vector2(...to), snap, { px: 10, near: 0.01 })
    hand.drop()
    await new Promise((r) => setTimeout(r))
    expect(dropped).toHaveLength(1)
    expect(dropped[0][0]).toBeCloseTo(wanted[0] - 0.2, 5)
    expect(dropped[0][1]).toBeCloseTo(wanted[1] - 0.2, 5)
  })

  it('drops what was let go before it was known what follows', async () => {
    const p = piece()
    const dropped: number[][] = []
    let known: (follows: Follow[]) => void = () => undefined
    const hand = new PointHand(
      () => [p],
      () => new Promise((r) => (known = r)),
      () => undefined,
      (_, by) => dropped.push(by),
    )
    hand.takes(new THREE.Vector2(0.2, 0.2), 0.01, picked(p, 0, 2))
    hand.to(new THREE.Vector2(0.201, 0.2), 'near', { px: 10, near: 0.01 })
    hand.drop()
    hand.release()
    known([{ live: new Live(p), object: 0, corners: [2, 4], weights: [1, 1] }])
    await new Promise((r) => setTimeout(r))
    // It snaps to others, never to itself.
    expect(dropped).toHaveLength(1)
    expect(dropped[0][0]).toBeCloseTo(0.001, 5)
  })

  it('drops nothing where nothing may be dragged', async () => {
    const p = piece()
    const dropped: number[][] = []
    const hand = new PointHand(
      () => [p],
      () => Promise.resolve(null),
      () => undefined,
      (_, by) => dropped.push(by),
    )
    hand.takes(new THREE.Vector2(0.2, 0.2), 0.01, picked(p, 0, 2))
    hand.to(new THREE.Vector2(0.4, 0.4), 'none', { px: 10, near: 0.01 })
    hand.drop()
    await new Promise((r) => setTimeout(r))
    expect(dropped).toEqual([])
  })
})
