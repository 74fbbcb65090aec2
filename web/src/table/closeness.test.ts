import { describe, expect, it } from 'vitest'
import { exactBoxes } from '../scene/hand'
import { boxOf, segments, thicknesses } from '../scene/outlines'
import { squares } from '../testing'
import { Neighbours } from './closeness'

/** The first square is dragged; all have a map of 1000 px. */
function neighbours(...places: [number, number, number][]) {
  const p = squares(1, places)
  p.px.fill(1000)
  return { p, found: new Neighbours(exactBoxes([p]), [p], (_, i) => i === 0) }
}

describe('what comes too near while it is dragged', () => {
  it('is named by the px that are left, at the narrowest place', () => {
    const { found } = neighbours([0.1, 0.1, 0.2], [0.305, 0.25, 0.2], [0.7, 0.7, 0.1])
    const [close, ...more] = found.find(8)
    expect(more).toEqual([])
    expect(close.px).toBeCloseTo(5)
    expect(close.at[0]).toBeCloseTo(0.3025)
    expect(close.at[1]).toBeGreaterThanOrEqual(0.25 - 1e-9)
    expect(found.find(5)).toEqual([])
    expect(found.find(0)).toEqual([])
  })
  it('is 0 px where outlines cross, and follows the drag', () => {
    const { p, found } = neighbours([0.1, 0.1, 0.2], [0.5, 0.1, 0.2])
    expect(found.find(8)).toEqual([])
    const table = p.table.slice()
    table[3] += 0.25
    p.setTable(table)
    expect(found.find(8).map((c) => c.px)).toEqual([0])
  })
  it('is measured from corner to corner where two stand askew', () => {
    const { found } = neighbours([0.1, 0.1, 0.2], [0.303, 0.304, 0.2])
    expect(found.find(8)[0].px).toBeCloseTo(5)
  })
})

describe('outlines', () => {
  it('lie where the layout puts them, and tell how thick an island is', () => {
    const p = squares(1, [
      [0, 0, 0.4],
      [0.5, 0.5, 0.1],
    ])
    expect(segments(p, 1)).toHaveLength(16)
    expect(
      boxOf(segments(p, 1))
        .min.toArray()
        .map((n) => Number(n.toFixed(6))),
    ).toEqual([0.5, 0.5])
    // Twice the area over the outline: half of a square's side.
    const thick = thicknesses(p.data)
    expect(thick[0]).toBeCloseTo(0.2)
    expect(thick[1]).toBeCloseTo(0.05)
  })
})
