import { describe, expect, it } from 'vitest'
import type { Baked } from '../store/types'
import { missMarks } from './marks'

const tile = { px: 64, twice: 0, missed: 1, seams: {} }
const baked: Baked = {
  job: 1,
  layout: 1,
  sheet: 2,
  maps: [],
  pairs: [],
  tiles: [
    { ...tile, tile: 1001, missed_at: [[0.25, 0.5]] },
    { ...tile, tile: 1002, missed_at: [[1.5, 0.5]] },
  ],
}

describe('rays that missed', () => {
  it('are marked on every tile of the sheet that was baked, and on no other', () => {
    expect(missMarks(baked, 2, new Set(['misses']))).toEqual([
      [0.25, 0.5],
      [1.5, 0.5],
    ])
    expect(missMarks(baked, 1, new Set(['misses']))).toEqual([])
    expect(missMarks(null, 2, new Set(['misses']))).toEqual([])
  })
  it('can be switched off', () => expect(missMarks(baked, 2, new Set(['gaps']))).toEqual([]))
})
