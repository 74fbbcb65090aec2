/** Room beside the tiles when all of the sheet is shown, as a part of their width. */
const BESIDE = 1.06
/** px above and below them: their numbers stand there. */
const WORDS = 20

/** How much of UV space the shorter side of a view of some px has to show, so that all of a sheet so many tiles wide and high lies in it with its words. */
export function spanOf(columns: number, rows: number, width: number, height: number): number {
  const shorter = width && height ? Math.min(width, height) : 1
  const free = Math.max(height - 2 * WORDS, height / 2) || 1
  return Math.max((columns * BESIDE * shorter) / (width || 1), (rows * shorter) / free)
}
