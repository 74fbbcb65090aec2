import { describe, expect, it } from 'vitest'
import { isOver, scaleOf, span, stateOf, type Batch } from './batches'

const batch = (more: Partial<Batch>): Batch => ({
  id: 1,
  name: 'Kit',
  folder: '',
  group: 'file',
  created: '',
  state: 'running',
  stopping: false,
  error: '',
  counts: {},
  done: 0,
  total: 0,
  seconds: 0,
  workers: 2,
  results: '',
  least: null,
  greatest: null,
  ...more,
})

describe('what is said of a batch', () => {
  it('tells how long the rest takes, from what is done', () => {
    expect(stateOf(batch({}))).toBe('Looking for its assets')
    expect(stateOf(batch({ total: 40 }))).toBe('0 of 40 done')
    expect(stateOf(batch({ total: 40, done: 10, seconds: 20 }))).toBe('10 of 40 done, about 60 s left')
  })
  it('tells how it ended, and that it is over then', () => {
    const ended = { total: 2000, done: 1500, seconds: 7200 }
    expect(stateOf(batch({ ...ended, state: 'done' }))).toBe('1,500 of 2,000 done in 2.0 h')
    expect(stateOf(batch({ ...ended, state: 'stopped' }))).toBe('Stopped at 1,500 of 2,000. ')
    expect(stateOf(batch({ ...ended, stopping: true }))).toBe('Stopping at 1,500 of 2,000')
    expect(stateOf(batch({ state: 'failed', error: 'It is gone.' }))).toBe('It is gone.')
    expect(['waiting', 'running', 'done', 'interrupted'].map((state) => isOver(batch({ state })))).toEqual([
      false,
      false,
      true,
      true,
    ])
  })
  it('says a time in the unit that keeps it short', () => {
    expect([12.4, 89, 600, 9000].map(span)).toEqual(['12 s', '89 s', '10 min', '2.5 h'])
  })
})

describe('the scale of densities', () => {
  it('is logarithmic and reaches over the limits', () => {
    const place = scaleOf([10, 1000], [100, null], 120)
    expect(place(100)).toBeCloseTo(60)
    expect(place(100) - place(10)).toBeCloseTo(place(1000) - place(100))
    expect([place(1e-9), place(1e9)]).toEqual([0, 120])
  })
})
