import { expect, test } from 'vitest'
import { figure, partOf } from './progress'

test('packing has seconds, other work steps, and some only the time that it took', () => {
  const packing = { text: 'Packing', seconds: 12.4, of: 20, coverage: 0.7123 }
  expect(figure(packing, 13)).toBe(' 12 of 20 s, best coverage 71.2 %')
  expect(partOf(packing)).toBeCloseTo(0.62)
  expect(figure({ text: 'Unwrapping', part: 0.5 }, 3)).toBe(', 50 %, 3 s')
  expect(figure({ text: 'Comparing', part: 0 }, 0.4)).toBe('')
  expect(partOf({ text: 'Comparing', part: 0 })).toBeNull()
  expect(partOf({ text: 'Proving', seconds: 21, of: 20 })).toBe(1)
})
