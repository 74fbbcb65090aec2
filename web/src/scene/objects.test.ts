import { describe, expect, it } from 'vitest'
import { row, stateOf } from '../testing'
import { holds, numbersOf, objectOf } from './objects'

describe('objects and their islands', () => {
  const bare = row(1, 0, 'bare', { first_island: 0, islands: 0 })
  const wheel = row(1, 1, 'wheel', { first_island: 0, islands: 3 })
  const other = row(2, 0, 'other file', { first_island: 0, islands: 3 })
  it('belong together by number and file', () => {
    expect([0, 2, 3].map((i) => holds(wheel, i))).toEqual([true, true, false])
    expect(numbersOf({ ...wheel, first_island: 4 })).toEqual([4, 5, 6])
    expect(numbersOf(bare)).toEqual([])
  })
  it('are found, whatever stands before them without an island', () => {
    const state = stateOf([other, bare, wheel])
    expect(objectOf(state, '1:0')?.name).toBe('wheel')
    expect(objectOf(state, '2:2')?.name).toBe('other file')
    expect(objectOf(state, '1:3')).toBeUndefined()
  })
})
