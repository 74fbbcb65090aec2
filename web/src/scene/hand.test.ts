import * as THREE from 'three'
import { describe, expect, it } from 'vitest'
import { point, squares } from '../testing'
import { about, aligned, around, exactBoxes, moved, shift, snapTo, spread, STAY, type Move } from './hand'

const box = (x0: number, y0: number, x1: number, y1: number) => new THREE.Box2(point(x0, y0), point(x1, y1))

/** Where a layout's row puts a point: scale R(angle) M(mirror) x + offset. */
function at(row: ArrayLike<number>, x: number, y: number): [number, number] {
  const [c, s] = [row[2] * Math.cos(row[0]), row[2] * Math.sin(row[0])]
  return [c * row[1] * x - s * y + row[3], s * row[1] * x + c * y + row[4]]
}

describe('moves', () => {
  const rows: [number, number, number, number, number][] = [
    [0, 1, 1, 0, 0],
    [0.7, 1, 2, 0.3, -0.1],
    [2, -1, 0.5, 1, 1],
  ]
  const moves: Move[] = [
    shift(0.2, -0.3),
    about(point(0.4, 0.6), { angle: 0.9 }),
    about(point(0.4, 0.6), { scale: 1.7 }),
    about(point(0.4, 0.6), { mirror: -1 }),
    about(point(-1, 2), { angle: -2, scale: 0.3, mirror: -1 }),
  ]
  it('move a row as they move its points', () => {
    for (const m of moves)
      for (const row of rows) {
        const before = at(row, 0.3, 0.8)
        const wanted = at([m.angle, m.mirror, m.scale, m.u, m.v], ...before)
        const found = at(moved(row, m), 0.3, 0.8)
        expect(found[0]).toBeCloseTo(wanted[0], 10)
        expect(found[1]).toBeCloseTo(wanted[1], 10)
      }
  })
  it('leave their own middle where it is', () => {
    for (const m of moves.slice(1, 4)) {
      const [x, y] = at([m.angle, m.mirror, m.scale, m.u, m.v], 0.4, 0.6)
      expect(x).toBeCloseTo(0.4, 12)
      expect(y).toBeCloseTo(0.6, 12)
    }
    expect(moved([0.5, -1, 2, 3, 4], STAY)).toEqual([0.5, -1, 2, 3, 4])
  })
})

describe('boxes', () => {
  it('are exact for turned islands, and hold only what is wanted', () => {
    const piece = squares(7, [
      [0, 0, 1],
      [2, 0, 0.5],
    ])
    piece.setTable(new Float32Array([Math.PI / 4, 1, 1, 0, 0, 0, 1, 1, 0, 0]))
    const boxes = exactBoxes([piece])
    expect([...boxes.keys()]).toEqual(['7:0', '7:1'])
    expect(boxes.get('7:0')!.min.x).toBeCloseTo(-Math.SQRT1_2, 5)
    expect(boxes.get('7:0')!.max.y).toBeCloseTo(Math.SQRT2, 5)
    expect([...exactBoxes([piece], (_, i) => i === 1).keys()]).toEqual(['7:1'])
  })
  it('line up at a side', () => {
    const boxes = [box(0, 0, 1, 1), box(2, 3, 5, 4)]
    expect(aligned(boxes, 'left')).toEqual([
      [0, 0],
      [-2, 0],
    ])
    expect(aligned(boxes, 'right')).toEqual([
      [4, 0],
      [0, 0],
    ])
    expect(aligned(boxes, 'top')[0]).toEqual([0, 3])
    expect(aligned(boxes, 'bottom')[1]).toEqual([0, -3])
  })
  it('spread with equal gaps, the outermost staying', () => {
    const boxes = [box(8, 0, 10, 1), box(0, 0, 1, 1), box(1.5, 0, 2.5, 1)]
    const by = spread(boxes, 'x')
    const placed = boxes.map((b, i) => [b.min.x + by[i][0], b.max.x + by[i][0]]).sort((a, b) => a[0] - b[0])
    expect(placed[0][0]).toBeCloseTo(0)
    expect(placed[2][1]).toBeCloseTo(10)
    expect(placed[1][0] - placed[0][1]).toBeCloseTo(placed[2][0] - placed[1][1])
    expect(around(boxes).max.x).toBe(10)
  })
})

describe('snapping', () => {
  it('goes to the nearest line within reach', () => {
    expect(snapTo([0.1, 0.3], [0.32, 0.5], 0.05)).toBeCloseTo(0.02)
    expect(snapTo([0.1, 0.3], [0.05, 0.5], 0.06)).toBeCloseTo(-0.05)
    expect(snapTo([0.1, 0.3], [0.7], 0.05)).toBe(0)
    expect(snapTo([0.1], [], 0.05)).toBe(0)
  })
})
