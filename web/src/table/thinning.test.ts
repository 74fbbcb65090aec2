import { expect, it } from 'vitest'
import { thinned } from './thinning'
import { ticks } from './ticks'
import { Missed, Typed } from './typed'

it('marks that would lie on each other are one with their number', () => {
  const marks = Array.from({ length: 3000 }, (_, k) => [100 + (k % 10), 100 + (k % 3)] as [number, number])
  const far: [number, number][] = [
    [300, 40],
    [9000, 40],
  ]
  const found = thinned([...marks, ...far], (m) => m, 800, 600)
  expect(found.reduce((n, c) => n + c.marks.length, 0)).toBe(3001)
  expect(found.length).toBeLessThan(6)
  expect(found.find((c) => c.x === 300)?.marks).toHaveLength(1)
})

it('rulers have round steps that stand apart', () => {
  const found = ticks(0, 2048, 4)
  const long = found.filter((t) => t.long).map((t) => t.at)
  expect(long.slice(0, 3)).toEqual([0, 500, 1000])
  expect(found.slice(0, 3).map((t) => t.at)).toEqual([0, 100, 200])
  // Closer than a pixel of the map there is nothing to read.
  expect(
    ticks(10.2, 13.1, 0.01)
      .filter((t) => t.long)
      .map((t) => t.at),
  ).toEqual([11, 12, 13])
  expect(ticks(5, 5, 1)).toEqual([])
})

it('a typed distance goes the way of the hand, two along both axes', () => {
  const t = new Typed()
  expect([...'12'].map((k) => t.press(k))).toEqual([true, true])
  expect(t.shift(-40, 3)).toEqual([-12, 0])
  expect(t.shift(2, 30)).toEqual([0, 12])
  for (const k of ',-5') t.press(k)
  expect(t.shift(-40, 3)).toEqual([12, -5])
  expect(t.press('v')).toBe(false)
  expect(t.press('Enter')).toBe(false)
  for (let k = 0; k < 9; k++) t.press('Backspace')
  expect(t.shift(1, 1)).toBeNull()
  t.press('-')
  expect(t.shift(1, 1)).toBeNull()
})

it('a number is meant for a pull that took hold of nothing, while it lasts and a moment after', () => {
  const m = new Missed()
  const key = (k: string, at: number) => m.takes(k, at)
  expect(key('3', 10)).toBe(false)
  m.pulled(false)
  expect([key('3', 20), key('v', 30), key('7', 90_000)]).toEqual([true, false, true])
  m.ended(100_000)
  expect([key('1', 100_900), key('2', 102_300), key('5', 104_000)]).toEqual([true, true, false])
  // Where islands were dragged it moved them.
  m.pulled(true)
  m.ended(105_000)
  expect(key('3', 105_010)).toBe(false)
})
