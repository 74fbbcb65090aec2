import { describe, expect, it } from 'vitest'
import { faultOf, row, squares, stateOf } from '../testing'
import { ELSEWHERE, FLIPPED, LEFT_OUT, SELECTED } from './pieces'
import { pickFlat } from './under'
import { FIRST } from './sheets'
import { bandOf, histogram, islandsOf, paint, readDensity, target } from './states'

const places: [number, number, number][] = [
  [0, 0, 0.1],
  [0.5, 0, 0.2],
  [0, 0.5, 0.4],
]
const objects = [row(1, 0, 'a'), row(1, 1, 'b'), row(1, 2, 'c')]

describe('density', () => {
  it('is map size x sqrt(UV area / world area), weighted by surface', () => {
    const piece = squares(1, places)
    const state = stateOf(objects)
    paint([piece], state, [], new Set(), 1)
    expect([0, 1, 2].map((i) => Math.round(piece.density(i)!))).toEqual([100, 200, 400])
    const all = readDensity([piece], state, new Set())!
    expect([all.median, all.least, all.greatest].map(Math.round)).toEqual([200, 100, 400])
    expect(all.mean).toBeCloseTo(Math.sqrt((100 ** 2 + 200 ** 2 + 400 ** 2) / 3), 2)
    expect(readDensity([piece], state, new Set(['1/1']))!.count).toBe(1)
    expect(readDensity([piece], state, new Set(['9/1']))).toBeNull()
  })
  it('counts the resolution of the tile that an island lies in', () => {
    const piece = squares(1, [[1.1, 0.1, 0.1]])
    const sheets = [{ ...FIRST, columns: 2, tile_px: { '1002': 4000 } }]
    paint([piece], stateOf(objects, { sheets }), [], new Set(), 1)
    expect(piece.density(0)).toBeCloseTo(400, 2)
  })
  it('is compared with the target times the weight', () => {
    const piece = squares(1, places)
    const state = stateOf(objects, { weights: { '1/1': 2, '1:2': 4 } })
    paint([piece], state, [], new Set(), 1)
    expect(target(state, 1)).toBe(100)
    expect(bandOf(stateOf([], { band: 100 }))).toBe(1)
    const bins = histogram([piece], state)
    expect(bins.filter((b) => b > 0)).toHaveLength(1)
    expect(bins[16]).toBeGreaterThan(0)
    const plain = histogram([piece], stateOf(objects))
    expect([plain[16], plain[20], plain[24]].every((b) => b > 0)).toBe(true)
  })
  it('takes a sheet’s own median where nothing is held', () => {
    const state = stateOf(objects, { hold: false })
    expect(target(state, 1)).toBeNull()
  })
})

describe('marks', () => {
  it('tell what is selected, mirrored, left out and on another sheet', () => {
    const piece = squares(1, places)
    const sheets = [FIRST, { ...FIRST, id: 2, name: 'Second' }]
    const state = stateOf([objects[0], row(1, 1, 'b', { left_out: true }), objects[2]], {
      sheets,
      sheet_of: { '1/2': 2 },
    })
    paint([piece], state, [faultOf('flipped', [[1, 0]])], new Set(['1/0']), 1)
    expect([0, 1, 2].map((i) => piece.mark(i))).toEqual([SELECTED + FLIPPED, LEFT_OUT, ELSEWHERE])
    expect(pickFlat([piece], 0.05, 0.05)?.island).toBe(0)
    expect(pickFlat([piece], 0.6, 0.1)).toBeNull()
    expect(pickFlat([piece], 0.2, 0.7)).toBeNull()
    paint([piece], state, [], new Set(), 2)
    expect(pickFlat([piece], 0.2, 0.7)?.island).toBe(2)
  })
  it('are found for keys of objects and islands', () => {
    expect(islandsOf(stateOf(objects), new Set(['1/0', '1:2', '4:7']))).toEqual({ 1: [0, 2], 4: [7] })
  })
})
