/** Told while a hand moves islands or points, before that is a step: every picture of them draws again, and nothing else does. */
const pictures = new Set<() => void>()

export const moved = () => pictures.forEach((draw) => draw())

/** Draw again whenever something is moved; returns how to end that. */
export function whenMoved(draw: () => void): () => void {
  pictures.add(draw)
  return () => void pictures.delete(draw)
}
