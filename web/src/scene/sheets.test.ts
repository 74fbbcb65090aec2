import { describe, expect, it } from 'vitest'
import { row, SETTINGS, stateOf } from '../testing'
import {
  assigned,
  FIRST,
  nameOfTile,
  ranges,
  sent,
  tileOfIsland,
  flatOf,
  placeOf,
  pxOf,
  recipeOf,
  sheetOfIsland,
  sheetsOf,
  tilesOf,
  withRecipe,
  withSheet,
} from './sheets'

const TWO = [
  { ...FIRST, columns: 3, tile_px: { '1002': 512 } },
  { ...FIRST, id: 2, name: 'Second', recipe: 'wide', map_px: 4096 },
]
const wide = { ...recipeOf(SETTINGS), padding_px: 32 }
const settings = { ...SETTINGS, sheets: TWO, recipes: { wide } }

describe('sheets', () => {
  it('are at least one', () => {
    expect(sheetsOf(SETTINGS)).toEqual([FIRST])
    expect(flatOf(SETTINGS, 99).sheet.id).toBe(1)
  })
  it('take their recipe and map size in place of the project’s', () => {
    expect(flatOf(settings, 1).padding_px).toBe(8)
    expect(flatOf(settings, 2).padding_px).toBe(32)
    expect(flatOf(settings, 2).map_px).toBe(4096)
    expect(pxOf(flatOf(settings, 1), 1002)).toBe(512)
    expect(pxOf(flatOf(settings, 1), 1001)).toBe(1000)
  })
  it('number their tiles as UDIM does: 1001 + column + 10 x row', () => {
    expect(tilesOf({ ...FIRST, columns: 10, rows: 2 })).toEqual(Array.from({ length: 20 }, (_, k) => 1001 + k))
    expect(tilesOf({ ...FIRST, columns: 2, rows: 2 })).toEqual([1001, 1002, 1011, 1012])
    expect(placeOf(1044)).toEqual([3, 4])
  })
  it('change their own recipe, or the project’s where they have none', () => {
    expect(withRecipe(settings, TWO[0], { padding_px: 4 })).toEqual({ padding_px: 4 })
    expect(withRecipe(settings, TWO[1], { margin_px: 1 })).toEqual({ recipes: { wide: { ...wide, margin_px: 1 } } })
    expect(withSheet(settings, 2, { name: 'New' }).sheets?.map((s) => s.name)).toEqual(['Sheet 1', 'New'])
  })
})

describe('islands on sheets', () => {
  const state = stateOf([row(1, 0, 'a', { islands: 2 }), row(1, 1, 'b', { first_island: 2 })], settings)
  it('follow their object, unless they have a sheet of their own', () => {
    const of = { ...settings, sheet_of: { '1/0': 2, '1:1': 1 } }
    expect([0, 1].map((i) => sheetOfIsland(of, 1, 0, i))).toEqual([2, 1])
    expect(sheetOfIsland(of, 1, 1, 2)).toBe(1)
  })
  it('belong to the tile of their object, unless they say otherwise against it', () => {
    expect(sent(state, ['1/0'], 1002)).toEqual({ tile_of: { '1/0': 1002 } })
    const ruled = stateOf(state.objects, { ...settings, tile_of: { '1/0': 1002, '1:0': 1003, '1/1': 1001 } })
    expect([0, 1].map((i) => tileOfIsland(ruled.settings, 1, 0, i))).toEqual([1003, 1002])
    expect(tileOfIsland(ruled.settings, 1, 9, 9)).toBe(0)
    // An island that goes anywhere while its object has a tile has to say so; without one it has nothing to say.
    expect(sent(ruled, ['1:1', '1:2'], 0)).toEqual({
      tile_of: { '1/0': 1002, '1:0': 1003, '1:1': 0, '1/1': 1001, '1:2': 0 },
    })
    expect(sent(ruled, ['1/0'], 0)).toEqual({ tile_of: { '1/1': 1001 } })
    expect(sent(state, ['1:1'], 0)).toEqual({ tile_of: {} })
    expect(nameOfTile({ ...FIRST, tile_names: { '1002': 'face' } }, 1002)).toBe('1002 face')
  })
  it('are taken along when their object moves', () => {
    const before = stateOf(state.objects, { ...settings, sheet_of: { '1:1': 2 } })
    expect(assigned(before, ['1/0'], 2)).toEqual({ sheet_of: { '1/0': 2 } })
    expect(assigned(before, ['1/0'], 1)).toEqual({ sheet_of: {} })
    expect(assigned(before, ['1:2'], 2)).toEqual({ sheet_of: { '1:1': 2, '1:2': 2 } })
  })
})

describe('tiles as they are typed', () => {
  it('are ranges where numbers follow each other', () => {
    expect(ranges(tilesOf({ ...FIRST, columns: 3, rows: 2 }))).toBe('1001-1003, 1011-1013')
    expect(ranges([1005])).toBe('1005')
  })
})
