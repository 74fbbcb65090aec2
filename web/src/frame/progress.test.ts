import { expect, test } from 'vitest'
import { figure } from './progress'

test('packing has seconds, other work steps, and some only the time that it took', () => {
  const packing = { text: 'Packing', seconds: 12.4, of: 20, coverage: 0.7123 }
  expect(figure({ progress: packing, part: 0.62 }, 13)).toBe(' 12 of 20 s, best coverage 71.2 %')
  expect(figure({ progress: { text: 'Unwrapping' }, part: 0.5 }, 3)).toBe(', 50 %, 3 s')
  expect(figure({ progress: { text: 'Comparing' }, part: null }, 0.4)).toBe('')
})
