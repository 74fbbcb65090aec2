import { describe, expect, it } from 'vitest'
import { FIRST } from '../../scene/sheets'
import { SETTINGS, stateOf } from '../../testing'
import { valuesOf } from './values'

const values = (part: object) => valuesOf(stateOf([], { ...SETTINGS, ...part }), 1)

describe('what is set in a folded part of the worksheet', () => {
  it('is read in a few words', () => {
    expect(values({ map_px: 2048, padding_px: 8, rotate: '90', hold: false }).size).toBe(
      '2048 px, 8 px padding, by 90°, as dense as fits',
    )
    expect(values({ hold: true, density: 1024 }).size).toMatch(/1,024 px\/m$/)
    expect(values({ sheets: [{ ...FIRST, columns: 3, tile_px: { '1002': 64 } }] }).tiles).toBe('3, of 2 sizes')
    expect(values({}).tiles).toBe('one')
    expect(values({ tile_of: { '1/0': 1001, '1:4': 1002, '1:5': 0 } }).sent).toBe('2 parts to 2 tiles')
    expect(values({ held: ['1/0'], twins: [['1:1', '1:2']] }).rules).toBe('1 held, 1 group of twins')
    expect(values({}).rules).toBe('none')
  })
})
