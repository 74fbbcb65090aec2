/** Places of a ruler in px of the map, so that they stand at least so many pixels of the screen apart: steps of 1, 2, 5 times a power of ten, or of two. */
export function ticks(from: number, to: number, perPixel: number, least = 56): { at: number; long: boolean }[] {
  if (!(perPixel > 0) || !(to > from)) return []
  const wanted = perPixel * least
  const power = 10 ** Math.floor(Math.log10(wanted))
  const step = Math.max(1, [1, 2, 5, 10].map((m) => m * power).find((s) => s >= wanted) ?? wanted)
  const small = step >= 5 ? step / 5 : step
  const out = []
  for (let k = Math.ceil(from / small); k * small <= to; k++)
    out.push({ at: k * small || 0, long: Math.abs((k * small) / step - Math.round((k * small) / step)) < 1e-6 })
  return out
}
