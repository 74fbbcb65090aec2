import { describe, expect, it } from 'vitest'
import { row, stateOf } from '../testing'
import { FIRST } from './sheets'
import { asideTwins } from './twins'

describe('twins for the bake', () => {
  const objects = [
    row(1, 0, 'crane', { first_island: 0, islands: 3 }),
    row(2, 0, 'mill', { first_island: 0, islands: 2 }),
  ]
  const settings = {
    twins: [
      ['2:1', '1:2', '1:0'],
      ['2:0', '9:0'],
    ],
    sheets: [{ ...FIRST, columns: 3 }],
  }

  it('go beside their sheet, but for the first of each group; what is gone has no twin', () => {
    expect(asideTwins(stateOf(objects, settings))).toEqual([
      { file: 1, island: 2, columns: 3 },
      { file: 2, island: 1, columns: 3 },
    ])
  })
  it('are none where none are marked', () => {
    expect(asideTwins(stateOf(objects, { ...settings, twins: [] }))).toEqual([])
  })
})
