import { expect, test } from 'vitest'
import { spanOf } from './framing'

/** px of a UV unit, and px above the sheet. */
function shown(columns: number, rows: number, width: number, height: number) {
  const unit = Math.min(width, height) / spanOf(columns, rows, width, height)
  return { wide: columns * unit, high: rows * unit, above: (height - rows * unit) / 2 }
}

test.each([
  [1, 1, 670, 340],
  [1, 1, 670, 680],
  [4, 1, 670, 340],
  [1, 3, 300, 700],
])(
  'a sheet of %i by %i lies in a view of %i by %i px, with room for words above it',
  (columns, rows, width, height) => {
    const { wide, high, above } = shown(columns, rows, width, height)
    expect(above).toBeGreaterThan(19.99)
    expect(wide).toBeLessThan(width)
    expect(Math.max(wide / width, high / (height - 40))).toBeGreaterThan(0.9)
  },
)

test('a view that is very low, or not there yet, still shows something', () => {
  expect(shown(1, 1, 600, 50).high).toBeCloseTo(25)
  expect(spanOf(1, 1, 0, 0)).toBeGreaterThan(0)
})
