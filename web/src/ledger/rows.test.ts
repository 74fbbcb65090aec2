import { describe, expect, it } from 'vitest'
import { FIRST } from '../scene/sheets'
import { faultOf, row, squares, stateOf } from '../testing'
import { between, linesOf, type Group } from './rows'

const objects = [
  row(1, 0, 'winch', { density: { median: 300, least: 300, greatest: 300 }, points: 1, materials: ['iron'] }),
  row(1, 1, 'crane', { density: { median: 50, least: 50, greatest: 50 }, points: 4 }),
  row(1, 2, 'bare', { islands: 0, density: null, sheets: [] }),
]
const names = (lines: ReturnType<typeof linesOf>) => lines.map((l) => (l.kind === 'object' ? l.object.name : l.name))
const grouped = (state: ReturnType<typeof stateOf>, group: Group) =>
  linesOf(
    state,
    [
      squares(1, [
        [0, 0, 0.1],
        [1, 0, 0.1],
      ]),
    ],
    [],
    none,
    '',
    'file',
    '',
    0,
    group,
  )
const none = new Set<string>()

describe('the ledger', () => {
  const state = stateOf(objects)
  it('sorts and filters by name and material', () => {
    expect(names(linesOf(state, [], [], none, '', 'file', ''))).toEqual(['winch', 'crane', 'bare'])
    expect(names(linesOf(state, [], [], none, '', 'density', ''))).toEqual(['bare', 'crane', 'winch'])
    expect(names(linesOf(state, [], [], none, '', 'points', ''))).toEqual(['crane', 'winch', 'bare'])
    expect(names(linesOf(state, [], [], none, '', 'name', ''))).toEqual(['bare', 'crane', 'winch'])
    expect(names(linesOf(state, [], [], none, 'IRON', 'file', ''))).toEqual(['winch'])
  })
  it('groups by file, material and tile, with sums, and chooses from one line to another', () => {
    const state = stateOf(
      objects.map((o, n) => ({ ...o, first_island: n })),
      { sheets: [{ ...FIRST, columns: 2, tile_names: { '1002': 'face' } }] },
    )
    expect(names(grouped(state, 'material'))).toEqual(['iron', 'winch', 'wood', 'crane', 'bare'])
    const tiles = grouped(state, 'tile')
    expect(names(tiles)).toEqual(['1001', 'winch', '1002 face', 'crane', 'no UVs', 'bare'])
    expect(tiles[0]).toMatchObject({ kind: 'group', keys: ['1/0'], islands: 1 })
    expect(between(tiles, '1/1', '1/0')).toEqual(['1/0', '1/1'])
    // Where there are several tiles every line says on which it lies.
    expect(tiles.map((l) => (l.kind === 'group' ? '' : l.lies))).toEqual(['', '1001', '', '1002', '', ''])
    expect(between(tiles, 'gone', '1/1')).toEqual(['1/1'])
  })
  it('shows only what has a fault, or lies on a sheet', () => {
    const faults = [faultOf('gap', [[1, 1]])]
    expect(names(linesOf(state, [], faults, none, '', 'file', 'gap'))).toEqual(['crane'])
    const two = stateOf([objects[0], { ...objects[1], sheets: [2] }], {
      sheets: [FIRST, { ...FIRST, id: 2, name: 'B' }],
    })
    expect(names(linesOf(two, [], [], none, '', 'file', '', 2))).toEqual(['crane'])
    const pieces = [
      squares(1, [
        [0, 0, 0.1],
        [0.5, 0, 0.1],
      ]),
    ]
    expect(linesOf(two, pieces, [], none, '', 'file', '').map((l) => (l.kind === 'object' ? l.lies : null))).toEqual([
      'Sheet 1',
      'B',
    ])
    expect(linesOf(state, pieces, [], none, '', 'file', '').every((l) => l.kind === 'object' && !l.lies)).toBe(true)
  })
  it('opens objects to their islands, with faults, weights and rules', () => {
    const ruled = stateOf(objects, {
      weights: { '1:0': 2 },
      held: ['1:0'],
      rotations: { '1/0': 'none' },
      bunches: [{ name: 'left', members: ['1/1'], strict: true }],
      twins: [['1:0', '1:1']],
    })
    const lines = linesOf(
      ruled,
      [squares(1, [[0, 0, 0.1]])],
      [faultOf('tiny', [[1, 0]])],
      new Set(['1/0']),
      '',
      'file',
      '',
    )
    expect(lines.map((l) => l.kind !== 'group' && l.rules)).toEqual([['upright'], ['held', 'twin'], ['left'], []])
    const island = lines[1]
    expect(island.kind === 'island' && [island.name, island.faults, island.weight]).toEqual(['island 1', ['tiny'], 2])
  })
})
