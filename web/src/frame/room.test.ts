import { describe, expect, it } from 'vitest'
import { roomOf } from './rooms'

describe('the room of a stage', () => {
  it('is as it was left, for each stage on its own', () => {
    const rooms = { Mend: { views: 'side', folded: ['ledger'] } } as const
    expect(roomOf(rooms as never, 'Mend')).toEqual({ views: 'side', folded: ['ledger'] })
    expect(roomOf(rooms as never, 'Prove')).toEqual({ views: 'both', folded: [] })
    expect(roomOf({}, 'Arrange').views).toBe('table')
  })
  it('is the usual one where what was kept is damaged', () => {
    const rooms = { Even: { views: 'upside down', folded: ['roof', 'tries'] }, Mend: { folded: 'all' } }
    expect(roomOf(rooms as never, 'Even')).toEqual({ views: 'both', folded: ['tries'] })
    expect(roomOf(rooms as never, 'Mend')).toEqual({ views: 'both', folded: [] })
  })
})
