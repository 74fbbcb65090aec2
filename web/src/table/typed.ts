const KEYS = /^[0-9.,\-]$/

/** A distance that is typed while something is dragged: px along the way that the hand goes, or "12, -5" along u and v; degrees where it is turned. */
export class Typed {
  text = ''

  /** Take a key; whether it was one of these. */
  press(key: string): boolean {
    if (key === 'Backspace' && this.text) this.text = this.text.slice(0, -1)
    else if (KEYS.test(key)) this.text += key
    else return false
    return true
  }

  /** The numbers that stand there; null where they are none yet. */
  get numbers(): [number] | [number, number] | null {
    const parts = this.text.split(',').map((t) => t.trim())
    if (!parts[0] || parts.length > 2) return null
    const found = parts.filter(Boolean).map(Number)
    if (found.some((n) => !Number.isFinite(n))) return null
    return found as [number] | [number, number]
  }

  /** What is meant, where the hand went so far: u and v in px. One number counts along the axis that it went farther on, in its direction. */
  shift(u: number, v: number): [number, number] | null {
    const found = this.numbers
    if (!found) return null
    if (found.length === 2) return found
    return Math.abs(u) >= Math.abs(v) ? [found[0] * (u < 0 ? -1 : 1), 0] : [0, found[0] * (v < 0 ? -1 : 1)]
  }
}
