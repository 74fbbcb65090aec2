import { describe, expect, it } from 'vitest'
import type { Baked } from '../store/types'
import { missMarks } from './marks'

const tile = { px: 64, twice: 0, missed: 1, seams: {} as Baked['tiles'][0]['seams'] }
const baked: Baked = {
  job: 1,
  layout: 1,
  sheet: 2,
  maps: [],
  pairs: [],
  half_range: 1,
  seam_percent: 5,
  tiles: [
    { ...tile, tile: 1001, missed_at: [[0.25, 0.5]] },
    { ...tile, tile: 1002, missed_at: [[1.5, 0.5]] },
  ],
}

describe('rays that missed', () => {
  it('are marked on every tile of the sheet that was baked, and on no other', () => {
    expect(missMarks(baked, 'occlusion', 2, new Set(['misses']))).toEqual([
      [0.25, 0.5],
      [1.5, 0.5],
    ])
    expect(missMarks(baked, 'occlusion', 1, new Set(['misses']))).toEqual([])
    expect(missMarks(null, 'occlusion', 2, new Set(['misses']))).toEqual([])
  })
  it('stand beside the bad seams of the map that is shown, and of no other', () => {
    const bad = { mean: 0.1, greatest: 0.2, count: 3, bad: 1, bad_at: [[0.7, 0.8]] as [number, number][] }
    const one = { ...baked, tiles: [{ ...tile, tile: 1001, missed_at: [], seams: { cavity: bad } }] }
    expect(missMarks(one, 'cavity', 2, new Set(['misses']))).toEqual([[0.7, 0.8]])
    expect(missMarks(one, 'occlusion', 2, new Set(['misses']))).toEqual([])
    expect(missMarks(one, '', 2, new Set(['misses']))).toEqual([])
  })
  it('can be switched off', () => expect(missMarks(baked, 'occlusion', 2, new Set(['gaps']))).toEqual([]))
})
