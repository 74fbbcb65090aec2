import { expect, test } from 'vitest'
import { perMetre, plain } from './words'

test('densities are read out in plain digits, whatever their size', () => {
  expect(plain(15899.7)).toBe('15,900')
  expect(plain(0.0123456, 3)).toBe('0.0123')
  expect(plain(2048)).toBe('2,048')
  expect(perMetre(1.59e7)).toBe('15,900,000 px/m')
  expect(perMetre(null)).toBe('none')
})
