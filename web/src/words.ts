/** A number with so many significant digits, thousands grouped, never in powers of ten: 15,900 and 0.0123. */
export function plain(x: number, digits = 4): string {
  return x.toLocaleString('en', { maximumSignificantDigits: digits })
}

/** A texel density with its unit; "none" where there is none. */
export function perMetre(density: number | null | undefined, digits = 4): string {
  return density == null ? 'none' : `${plain(density, digits)} px/m`
}
