/** One glyph for marks that would lie on each other: where, how many they are, and what a click on it selects. */
export interface Cluster<T> {
  x: number
  y: number
  marks: T[]
}

const CELL = 26 // pixels of the screen: a glyph with its count
const FEW = 60 // clusters: where there are more, cells are twice as wide

/**
 * Marks on the screen, those in one cell of a grid as one; the glyph stands at the first of them. Outside of the picture nothing is
 * drawn.
 */
export function thinned<T>(
  marks: readonly T[],
  at: (m: T) => [number, number],
  wide: number,
  high: number,
  cell = CELL,
): Cluster<T>[] {
  const cells = new Map<number, Cluster<T>>()
  for (const m of marks) {
    const [x, y] = at(m)
    if (x < -CELL || y < -CELL || x > wide + CELL || y > high + CELL) continue
    const key = Math.floor(x / cell) * 65536 + Math.floor(y / cell)
    const found = cells.get(key)
    if (found) found.marks.push(m)
    else cells.set(key, { x, y, marks: [m] })
  }
  return cells.size > FEW && cell === CELL ? thinned(marks, at, wide, high, 2 * CELL) : [...cells.values()]
}
