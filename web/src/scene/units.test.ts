import { expect, test } from 'vitest'
import { apart, asked, meantUnit, reach, sizeOf, type File } from './units'

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

const told = (files: File[]) =>
  asked(files, () => false).map((q) => [q.unit[1], q.odd.map((f) => f.id), q.alike.map((f) => f.id)])

test('files of one kind are asked about together, also those that would pass by themselves', () => {
  const files = [file([130, 1, 1], 1, 1), file([20, 1, 1], 1, 2), file([150, 1, 1], 1, 3), file([0.3, 1, 0.2], 1, 4)]
  // What would be ten millimetres long is kept out of it, and so is what came in another unit.
  expect(told(files)).toEqual([['cm', [1, 3], [1, 2, 3, 4]]])
  expect(told([...files, file([0.3, 0.1, 0.2], 1, 5), file([3, 1, 1], 0.01, 6)])).toEqual([
    ['cm', [1, 3], [1, 2, 3, 4]],
  ])
})

test('a kit of which no file is out of bounds by itself is looked at as a whole', () => {
  expect(told([file([18, 3, 3], 1, 1), file([25, 1, 1], 1, 2), file([12, 1, 1], 1, 3)])).toEqual([
    ['cm', [1, 2, 3], [1, 2, 3]],
  ])
  expect(told([file([18, 3, 3], 1, 1), file([25, 1, 1], 1, 2)])).toEqual([])
  expect(told([file([2, 3, 3], 1, 1), file([25, 1, 1], 1, 2), file([1, 1, 1], 1, 3)])).toEqual([])
})

test('how far sizes are apart', () => {
  expect(apart([file([2, 1, 1]), file([1, 250, 1]), file([0, 0, 0])])).toBe(125)
  expect(apart([])).toBe(1)
})
