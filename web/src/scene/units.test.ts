import { expect, test } from 'vitest'
import { asked, meantUnit, reach, sizeOf, type File } from './units'

const file = (size_m: number[] | null, unit_m = 1, id = 1): File => ({
  id,
  name: `f${id}.obj`,
  unit_m,
  size_m,
  warnings: [],
  materials: [],
})

test('a size that cannot be meant leads to the unit that makes sense of it', () => {
  expect(meantUnit(file([40, 130, 20]), false)?.[1]).toBe('cm')
  expect(meantUnit(file([900, 5400, 20]), false)?.[1]).toBe('mm')
  expect(meantUnit(file([2, 1, 0.4]), false)).toBeNull()
  expect(meantUnit(file([60, 12, 80]), false)).toBeNull()
  // Millimetres were chosen for what is in metres.
  expect(meantUnit(file([0.001, 0.002, 0.0005], 0.001), false)?.[1]).toBe('m')
  expect(meantUnit(file([130, 1, 1]), true)?.[1]).toBe('a hundredth')
  expect(meantUnit(file([0.003, 0.001, 0.001]), true)?.[1]).toBe('a hundred times')
  expect(meantUnit(file(null), false)).toBeNull()
  expect(meantUnit(file([0, 0, 0]), false)).toBeNull()
})

test('how large it is, in words', () => {
  expect(reach(file([40, 130, 20]))).toBe('130 m tall')
  expect(sizeOf(file([1.3, 0.4, 2]))).toBe('1.3 × 0.4 × 2 m')
  expect(sizeOf(file([0.0222, 0.05, 0.022]))).toBe('2.22 × 5 × 2.2 cm')
  expect(sizeOf(file(null))).toBe('')
})

test('files that are wrong alike are asked about together', () => {
  const files = [file([130, 1, 1], 1, 1), file([2, 1, 1], 1, 2), file([150, 1, 1], 1, 3)]
  expect(asked(files, () => false).map(([u, of]) => [u[1], of.map((f) => f.id)])).toEqual([['cm', [1, 3]]])
})
