import { expect, test } from 'vitest'
import { counted, length, onTexels, perMetre, plain } from './words'

test('densities are read out in plain digits, whatever their size', () => {
  expect(plain(15899.7)).toBe('15,900')
  expect(plain(0.0123456, 3)).toBe('0.0123')
  expect(plain(2048)).toBe('2,048')
  expect(perMetre(1.59e7)).toBe('15,900,000 px/m')
  expect(perMetre(null)).toBe('none')
})

test('lengths and counts read as one would say them', () => {
  expect([0.0004, 0.02, 0.999, 16.34, 1630].map(length)).toEqual(['0.4 mm', '2 cm', '99.9 cm', '16.3 m', '1,630 m'])
  expect([counted(1, 'island'), counted(0, 'island'), counted(12000, 'bunch', 'bunches')]).toEqual([
    '1 island',
    '0 islands',
    '12,000 bunches',
  ])
})

test('edges on whole texels are counted, with what that cost', () => {
  expect(onTexels({ on: 1200, edges: 1204, change: 0.0061 })).toBe(
    '1,200 edges of 1,204 on whole texels, sizes changed by 0.6 % at most',
  )
  expect(onTexels({ on: 1, edges: 4 })).toBe('1 edge of 4 on whole texels')
})
