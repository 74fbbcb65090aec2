/** A number with so many significant digits, thousands grouped, never in powers of ten: 15,900 and 0.0123. */
export function plain(x: number, digits = 4): string {
  return x.toLocaleString('en', { maximumSignificantDigits: digits })
}

/** A texel density with its unit; "none" where there is none. */
export function perMetre(density: number | null | undefined, digits = 4): string {
  return density == null ? 'none' : `${plain(density, digits)} px/m`
}

/** How many of something: "1 island", "12,000 islands". */
export function counted(n: number, one: string, more = `${one}s`): string {
  return `${n.toLocaleString('en')} ${n === 1 ? one : more}`
}

/** How many straight edges lie on whole texels, and what that cost. */
export function onTexels(grid: { on: number; edges: number; change?: number | null }): string {
  const cost = grid.change == null ? '' : `, sizes changed by ${(100 * grid.change).toFixed(1)} % at most`
  return `${counted(grid.on, 'edge')} of ${grid.edges.toLocaleString('en')} on whole texels${cost}`
}

/** A length given in metres, in the unit that keeps it short: "2.5 cm", "16.3 m". */
export function length(metres: number): string {
  if (metres >= 1) return `${plain(metres, 3)} m`
  return metres >= 0.001 ? `${plain(100 * metres, 3)} cm` : `${plain(1000 * metres, 3)} mm`
}

/** What a mesh is cleaned of, by kind. */
export const DIRT: Record<string, string> = {
  doubled: 'faces twice',
  flat: 'faces without area',
  turned: 'faces wound the other way',
  merged: 'duplicate vertices',
  holes: 'small holes',
}
